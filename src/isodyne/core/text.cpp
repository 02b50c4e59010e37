#include "isodyne/core/text.h"

#include <algorithm>

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

std::string format_number(double value) {
  if (value == 0) return "0";  // also for -0
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

std::optional<std::string> closest(std::string_view word, const std::vector<std::string>& candidates) {
  if (word.size() > 200) return std::nullopt;
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
