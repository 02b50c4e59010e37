#include "isodyne/core/text.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <set>

#include <fmt/format.h>

namespace isodyne {

std::size_t display_width(std::string_view utf8) {
  return static_cast<std::size_t>(
      std::count_if(utf8.begin(), utf8.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0u) != 0x80u; }));
}

std::string_view first_columns(std::string_view utf8, std::size_t columns) {
  std::size_t end = 0;
  for (; end < utf8.size(); ++end) {
    const bool begins = (static_cast<unsigned char>(utf8[end]) & 0xC0u) != 0x80u;
    if (begins && columns-- == 0) break;
  }
  return utf8.substr(0, end);
}

namespace {
/// Bytes of the code point at the beginning of the text; 0: it is no UTF-8. Overlong forms, surrogates and what is
/// beyond U+10FFFF are none (RFC 3629).
std::size_t utf8_length(std::string_view text, char32_t& code) {
  const auto byte = [&](std::size_t i) { return i < text.size() ? static_cast<unsigned char>(text[i]) : 0u; };
  const unsigned first = byte(0);
  if (first < 0x80) return code = first, 1;
  const std::size_t length = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : first >= 0xC2 ? 2 : 0;
  if (length == 0 || first > 0xF4) return 0;
  code = first & (0xFFu >> (length + 1));
  for (std::size_t i = 1; i < length; ++i) {
    if ((byte(i) & 0xC0u) != 0x80u) return 0;
    code = code << 6 | (byte(i) & 0x3Fu);
  }
  const char32_t least = length == 4 ? 0x10000 : length == 3 ? 0x800 : 0x80;
  return code < least || code > 0x10FFFF || (code >= 0xD800 && code <= 0xDFFF) ? 0 : length;
}

bool turns_writing(char32_t c) {
  return (c >= 0x202A && c <= 0x202E) || (c >= 0x2066 && c <= 0x2069) || c == 0x200E || c == 0x200F;
}

/// Bytes of what is at the beginning; `shown`: it may be.
std::size_t next_shown(std::string_view text, bool& shown) {
  char32_t code = 0;
  const std::size_t length = utf8_length(text, code);
  const bool control = (code < 0x20 && code != '\n' && code != '\t') || (code >= 0x7F && code < 0xA0);
  shown = length > 0 && !control && !turns_writing(code) && code != 0xFFFE && code != 0xFFFF;
  return std::max<std::size_t>(1, length);
}
}  // namespace

std::optional<std::size_t> not_printable(std::string_view text) {
  for (std::size_t i = 0; i < text.size();) {
    bool shown = false;
    const std::size_t length = next_shown(text.substr(i), shown);
    if (!shown) return i;
    i += length;
  }
  return std::nullopt;
}

std::string printable(std::string_view text) {
  if (!not_printable(text)) return std::string(text);
  std::string out;
  for (std::size_t i = 0; i < text.size();) {
    bool shown = false;
    const std::size_t length = next_shown(text.substr(i), shown);
    if (shown)
      out += text.substr(i, length);
    else if (text.substr(i, 2) != "\r\n")  // a line end of others
      out += "\xEF\xBF\xBD";
    i += length;
  }
  return out;
}

std::string_view last_columns(std::string_view utf8, std::size_t columns) {
  const std::size_t width = display_width(utf8);
  return width <= columns ? utf8 : utf8.substr(first_columns(utf8, width - columns).size());
}

std::vector<std::string> shortened_apart(const std::vector<std::string>& names, std::size_t columns) {
  const auto half = columns / 2;
  const std::function<std::string(const std::string&)> ways[] = {
      [&](const std::string& n) { return "…" + std::string(last_columns(n, columns - 1)); },
      [&](const std::string& n) {
        return std::string(first_columns(n, half)) + "…" + std::string(last_columns(n, columns - 1 - half));
      },
      [&](const std::string& n) { return std::string(first_columns(n, columns - 1)) + "…"; }};
  const std::set<std::string> different(names.begin(), names.end());
  std::vector<std::string> made;
  for (const auto& cut : ways) {
    made.clear();
    for (const std::string& n : names) made.push_back(display_width(n) <= columns ? n : cut(n));
    if (std::set<std::string>(made.begin(), made.end()).size() == different.size()) return made;
  }
  for (std::size_t i = 0; i < made.size(); ++i) {  // they differ in their middles: by number
    if (display_width(names[i]) > columns)
      made[i] = std::string(first_columns(names[i], columns - 5)) + fmt::format("… #{}", i + 1);
  }
  return made;
}

std::string format_number(double value) {
  if (value == 0) return "0";  // also for -0
  // Large numbers written out, as people do.
  if (std::abs(value) >= 999999.5 && std::abs(value) < 1e12) return fmt::format("{:.0f}", value);
  return fmt::format("{:.6g}", value);
}

std::string format_exact(double value) {
  return fmt::format("{}", value);
}

int edit_distance(std::string_view a, std::string_view b) {
  // Optimal string alignment: three rows of the Levenshtein table, one more for swaps.
  std::vector<int> before(b.size() + 1), above(b.size() + 1), row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) above[j] = static_cast<int>(j);
  for (std::size_t i = 1; i <= a.size(); ++i) {
    row[0] = static_cast<int>(i);
    for (std::size_t j = 1; j <= b.size(); ++j) {
      row[j] = std::min({above[j] + 1, row[j - 1] + 1, above[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
      const bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
      if (swapped) row[j] = std::min(row[j], before[j - 2] + 1);
    }
    std::swap(before, above);
    std::swap(above, row);
  }
  return above[b.size()];
}

namespace {
constexpr std::size_t kMostComparisons = 2'000'000;  ///< some tenths of a second
thread_local std::size_t t_comparisons = 0;
}  // namespace

std::optional<std::string> did_you_mean(std::string_view word, const std::vector<std::string>& candidates) {
  const auto meant = closest(word, candidates);
  // Right in itself, and wrong where it stands.
  return meant && *meant != word ? std::optional(fmt::format("did you mean `{}`?", *meant)) : std::nullopt;
}

void renew_suggestions() {
  t_comparisons = 0;
}

std::optional<std::string> closest(std::string_view word, const std::vector<std::string>& candidates) {
  if (word.size() > 200 || t_comparisons > kMostComparisons) return std::nullopt;
  t_comparisons += candidates.size();
  const int allowed = word.size() <= 2 ? 1 : word.size() <= 5 ? 2 : 3;
  std::optional<std::string> best;
  int best_distance = allowed + 1;
  for (const std::string& candidate : candidates) {
    const auto gap = static_cast<int>(candidate.size()) - static_cast<int>(word.size());
    if (std::abs(gap) > allowed || candidate.size() < 2) continue;  // one letter is near everything
    const int distance = edit_distance(word, candidate);
    if (distance < best_distance && distance < static_cast<int>(std::max<std::size_t>(word.size(), 2))) {
      best = candidate;
      best_distance = distance;
    }
  }
  return best;
}

std::uint64_t fnv1a(std::string_view bytes, std::uint64_t hash) {
  for (const char c : bytes) {
    hash ^= static_cast<unsigned char>(c);
    hash *= 0x100000001b3ULL;
  }
  return hash;
}

std::string one_line(std::string_view text) {
  std::string out;
  for (const char c : text) {
    const bool blank = c == ' ' || c == '\n' || c == '\r' || c == '\t';
    if (!blank) out += c;
    if (blank && !out.empty() && out.back() != ' ') out += ' ';
  }
  if (!out.empty() && out.back() == ' ') out.pop_back();
  return out;
}

std::string trimmed(const std::string& text) {
  const std::size_t begin = text.find_first_not_of(' '), end = text.find_last_not_of(' ');
  return begin == std::string::npos ? "" : text.substr(begin, end + 1 - begin);
}

bool contains(const std::vector<std::string>& list, const std::string& name) {
  return std::find(list.begin(), list.end(), name) != list.end();
}

std::string listed(const std::vector<std::string>& all, std::string_view none, std::string_view by) {
  return all.empty() ? std::string(none) : fmt::format("{}", fmt::join(all, by));
}

void list_on(std::string& list, std::string_view more, std::string_view by) {
  if (!list.empty()) list += by;
  list += more;
}

bool is_element_of(std::string_view name, std::string_view vector) {
  if (name.size() < vector.size() + 3 || !name.starts_with(vector)) return false;
  const std::string_view rest = name.substr(vector.size());
  return rest.front() == '[' && rest.back() == ']' &&
         rest.substr(1, rest.size() - 2).find_first_not_of("0123456789") == std::string_view::npos;
}

std::string counted(std::size_t count, std::string_view noun) {
  return fmt::format("{} {}{}", count, noun, count == 1 ? "" : "s");
}

std::string lower_case(std::string_view text) {
  std::string lower(text);
  for (char& c : lower) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  }
  return lower;
}

bool matches(std::string_view pattern, std::string_view name) {
  // Of several stars only the last has ever to be tried again, so that no pattern takes long.
  std::size_t p = 0, n = 0, star = std::string_view::npos, tried = 0;
  while (n < name.size()) {
    if (p < pattern.size() && pattern[p] == '*') {
      star = p++;
      tried = n;
    } else if (p < pattern.size() && pattern[p] == name[n]) {
      ++p;
      ++n;
    } else if (star != std::string_view::npos) {
      p = star + 1;
      n = ++tried;
    } else {
      return false;
    }
  }
  return pattern.find_first_not_of('*', p) == std::string_view::npos;
}

}  // namespace isodyne
