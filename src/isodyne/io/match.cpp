#include "isodyne/io/match.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <unordered_map>

#include <fmt/format.h>

#include "isodyne/core/csv.h"
#include "isodyne/core/text.h"

namespace isodyne::io {

namespace {

using Kind = TagType::Kind;

bool is_upper(char c) {
  return c >= 'A' && c <= 'Z';
}
bool is_lower(char c) {
  return c >= 'a' && c <= 'z';
}
bool is_digit(char c) {
  return c >= '0' && c <= '9';
}

/// A word without its vowels and doubled letters.
std::string skeleton(const std::string& word) {
  std::string bones;
  for (const char c : word) {
    const bool vowel = std::string_view("aeiou").find(c) != std::string_view::npos;
    if (!vowel && (bones.empty() || bones.back() != c)) bones += c;
  }
  return bones;
}

/// How alike two parts of names are: the same, one the beginning of the other, one an abbreviation of the other.
double likeness(const std::string& a, const std::string& b) {
  if (a == b) return 1;
  if (is_digit(a[0]) || is_digit(b[0]) || a[0] != b[0]) return 0;
  const std::string& shorter = a.size() < b.size() ? a : b;
  const std::string& longer = a.size() < b.size() ? b : a;
  if (shorter.size() >= 2 && longer.starts_with(shorter))
    return 0.6 + 0.3 * static_cast<double>(shorter.size()) / static_cast<double>(longer.size());
  if (shorter.size() >= 4 && edit_distance(a, b) == 1) return 0.8;
  if (shorter.size() == 1) return 0.5;  // N for north
  if (longer.size() < 4) return 0;
  std::size_t at = 0;  // lvl is in l-e-v-e-l
  for (const char c : shorter) {
    at = longer.find(c, at);
    if (at == std::string::npos) return 0;
    ++at;
  }
  // Abbreviations leave vowels out first: lvl, pdl, intk.
  const std::string bones = skeleton(shorter), all = skeleton(longer);
  return bones == all ? 0.9 : all.starts_with(bones) ? 0.8 : 0.6;
}

/// Every part of every name once, with how rare it is.
class Parts {
 public:
  int id(const std::string& part) {
    const auto [found, fresh] = ids_.try_emplace(part, static_cast<int>(texts_.size()));
    if (fresh) {
      texts_.push_back(part);
      uses_.push_back(0);
    }
    return found->second;
  }
  void use(int id) { ++uses_[static_cast<std::size_t>(id)]; }
  const std::string& text(int id) const { return texts_[static_cast<std::size_t>(id)]; }
  std::size_t size() const { return texts_.size(); }
  /// Rare parts say more than `valve`, which half of all names have.
  double weight(int id, std::size_t names) const {
    return std::log(1 + static_cast<double>(names) / (1 + uses_[static_cast<std::size_t>(id)]));
  }

 private:
  std::unordered_map<std::string, int> ids_;
  std::vector<std::string> texts_;
  std::vector<int> uses_;
};

/// Direction, unit and type as a factor on the likeness of names: 1 where all agree.
double agreement(const MatchChannel& c, const Tag& t) {
  double factor = 1;
  if (t.place && t.place->area != 'M' && (t.place->area == 'I') != c.into_controller) factor *= 0.55;
  const bool bool_channel = c.type.kind == program::Type::Kind::boolean;
  if (t.known_type != nullptr && (t.known_type->kind == Kind::boolean) != bool_channel) factor *= 0.5;
  if (t.known_unit && c.type.kind == program::Type::Kind::real && t.known_unit->dimension != c.type.dimension)
    factor *= 0.6;
  return factor;
}

/// Where a name is found again in the comments: LT-1 in "LT-1: level in the chamber".
std::vector<int> parts_of(Parts& parts, const std::string& name) {
  std::vector<int> ids;
  for (const std::string& p : name_parts(name)) {
    const int id = parts.id(p);
    if (std::find(ids.begin(), ids.end(), id) == ids.end()) ids.push_back(id);
  }
  return ids;
}

/// The likeness of all pairs of names that have something in common.
class Matcher {
 public:
  Matcher(const std::vector<MatchChannel>& channels, const std::vector<Tag>& tags) : channels_(channels), tags_(tags) {
    for (const MatchChannel& c : channels) {
      channel_parts_.push_back(parts_of(parts_, c.name));
      doc_parts_.push_back(parts_of(parts_, c.doc));
      for (const int id : channel_parts_.back()) parts_.use(id);
    }
    for (const Tag& t : tags) {
      tag_parts_.push_back(parts_of(parts_, t.name));
      comment_parts_.push_back(parts_of(parts_, t.comment));
      for (const int id : tag_parts_.back()) parts_.use(id);
    }
    tags_with_.resize(parts_.size());
    comments_with_.resize(parts_.size());
    for (std::size_t t = 0; t < tags.size(); ++t) {
      for (const int id : tag_parts_[t]) tags_with_[static_cast<std::size_t>(id)].push_back(static_cast<int>(t));
      for (const int id : comment_parts_[t])
        comments_with_[static_cast<std::size_t>(id)].push_back(static_cast<int>(t));
    }
    for (std::size_t t = 0; t < tags.size(); ++t) whole_.push_back(weight_of(tag_parts_[t]));
    relate();
  }

  struct Pair {
    int channel = 0, tag = 0;
    double score = 0;
  };

  /// The best tags of one channel that are not taken, best first.
  std::vector<Pair> best_of(std::size_t channel, const std::vector<bool>& taken) {
    constexpr std::size_t kMost = 12;
    found_.clear();
    if (score_.empty())
      score_.assign(tags_.size(), 0.0), explained_.assign(tags_.size(), 0.0), last_.assign(tags_.size(), -1);
    const double whole = weight_of(channel_parts_[channel]);
    for (const int part : channel_parts_[channel]) {
      const double weight = parts_.weight(part, names());
      const auto& related = related_[static_cast<std::size_t>(part)];
      for (const auto& [other, alike] : related) {
        for (const int t : tags_with_[static_cast<std::size_t>(other)])
          add(t, part, weight * alike, parts_.weight(other, names()) * alike);
      }
      for (const auto& [other, alike] : related) {  // a comment says less than a name
        for (const int t : comments_with_[static_cast<std::size_t>(other)]) add(t, part, 0.7 * weight * alike, 0);
      }
    }
    for (const int part : doc_parts_[channel]) {  // a tag is often named in the description: LT-1
      for (const auto& [other, alike] : related_[static_cast<std::size_t>(part)]) {
        if (alike < 0.7) break;
        for (const int t : tags_with_[static_cast<std::size_t>(other)])
          add(t, -2 - part, 0, 0.8 * alike * parts_.weight(other, names()));
      }
    }
    std::vector<Pair> pairs;
    for (const int t : found_) {
      const auto i = static_cast<std::size_t>(t);
      const double names_alike =
          (std::min(score_[i], whole) + std::min(explained_[i], whole_[i])) / (whole + whole_[i]);
      const double score = names_alike * agreement(channels_[channel], tags_[i]);
      score_[i] = explained_[i] = 0;
      last_[i] = -1;
      if (score >= kLeastScore && !taken[i]) pairs.push_back({static_cast<int>(channel), t, score});
    }
    const std::size_t kept = std::min(kMost, pairs.size());
    std::partial_sort(
        pairs.begin(), pairs.begin() + static_cast<std::ptrdiff_t>(kept), pairs.end(),
        [](const Pair& a, const Pair& b) { return a.score != b.score ? a.score > b.score : a.tag < b.tag; });
    pairs.resize(kept);
    return pairs;
  }

 private:
  std::size_t names() const { return channels_.size() + tags_.size(); }
  double weight_of(const std::vector<int>& ids) const {
    double sum = 1e-9;
    for (const int id : ids) sum += parts_.weight(id, channels_.size() + tags_.size());
    return sum;
  }

  /// Notes what a part of the channel's name explains of a tag; the best of several likenesses of one part counts.
  void add(int tag, int part, double of_channel, double of_tag) {
    const auto i = static_cast<std::size_t>(tag);
    if (score_[i] == 0 && explained_[i] == 0) found_.push_back(tag);
    if (last_[i] == part) return;
    last_[i] = part;
    score_[i] += of_channel;
    explained_[i] += of_tag;
    if (score_[i] == 0 && explained_[i] == 0) explained_[i] = 1e-12;
  }

  /// For each part those that are like it, most alike first. Only parts that begin with one letter are compared.
  void relate() {
    std::map<char, std::vector<int>> by_letter;
    for (std::size_t i = 0; i < parts_.size(); ++i)
      by_letter[parts_.text(static_cast<int>(i))[0]].push_back(static_cast<int>(i));
    std::vector<bool> wanted(parts_.size(), false);
    for (const auto* lists : {&channel_parts_, &doc_parts_}) {
      for (const auto& ids : *lists) {
        for (const int id : ids) wanted[static_cast<std::size_t>(id)] = true;
      }
    }
    related_.resize(parts_.size());
    for (std::size_t i = 0; i < parts_.size(); ++i) {
      if (!wanted[i]) continue;
      const std::string& text = parts_.text(static_cast<int>(i));
      if (is_digit(text[0])) {
        related_[i].push_back({static_cast<int>(i), 1});
        continue;
      }
      for (const int other : by_letter[text[0]]) {
        const double alike = likeness(text, parts_.text(other));
        if (alike > 0) related_[i].push_back({other, alike});
      }
      std::stable_sort(related_[i].begin(), related_[i].end(),
                       [](const auto& a, const auto& b) { return a.second > b.second; });
    }
  }

  const std::vector<MatchChannel>& channels_;
  const std::vector<Tag>& tags_;
  Parts parts_;
  std::vector<std::vector<int>> channel_parts_, doc_parts_, tag_parts_, comment_parts_, tags_with_, comments_with_;
  std::vector<double> whole_;
  std::vector<std::vector<std::pair<int, double>>> related_;
  std::vector<double> score_, explained_;
  std::vector<int> last_, found_;
};

}  // namespace

std::vector<std::string> name_parts(const std::string& name) {
  std::vector<std::string> parts;
  std::string part;
  const auto end = [&] {
    // Leading zeros say nothing: 01 is 1.
    while (part.size() > 1 && part[0] == '0' && is_digit(part[1])) part.erase(0, 1);
    if (!part.empty()) parts.push_back(part);
    part.clear();
  };
  for (std::size_t i = 0; i < name.size(); ++i) {
    const char c = name[i], before = i > 0 ? name[i - 1] : ' ', after = i + 1 < name.size() ? name[i + 1] : ' ';
    const bool letter = is_upper(c) || is_lower(c) || (static_cast<unsigned char>(c) & 0x80u) != 0;
    if (!letter && !is_digit(c)) {
      end();
      continue;
    }
    const bool hump = is_upper(c) && (is_lower(before) || (is_upper(before) && is_lower(after)));
    if (hump || (is_digit(c) != is_digit(before) && !part.empty())) end();
    part += is_upper(c) ? static_cast<char>(c - 'A' + 'a') : c;
  }
  end();
  return parts;
}

std::vector<MatchChannel> channels_of(const program::Program& p, const program::Controller& controller) {
  std::vector<MatchChannel> all;
  const auto add = [&](program::VarId id, bool in) {
    const program::Variable& v = p.variable(id);
    MatchChannel c{v.name, v.doc, in, v.type, v.unit, {}, ""};
    if (c.name.starts_with(controller.name + ".")) c.name.erase(0, controller.name.size() + 1);
    for (const program::Sensor& s : p.sensors) {
      if (s.value == id && s.to_counts) c.word = s.word;
    }
    for (const program::Actuator& a : p.actuators) {
      if (a.value == id && a.to_counts) c.word = a.word;
    }
    if (v.type.kind == program::Type::Kind::choice)
      c.choice_size = counted(p.choices[static_cast<std::size_t>(v.type.choice)].labels.size(), "label");
    all.push_back(std::move(c));
  };
  for (const program::VarId id : controller.knows) add(id, true);
  for (const program::VarId id : controller.drives) add(id, false);
  return all;
}

std::vector<std::string> troubles_between(const MatchChannel& c, const Tag& t) {
  std::vector<std::string> troubles = t.troubles;
  if (t.place && t.place->area != 'M' && (t.place->area == 'I') != c.into_controller)
    troubles.push_back(fmt::format("{} is an {} of the controller, {} goes {} it", t.address,
                                   t.place->area == 'I' ? "input" : "output", c.name,
                                   c.into_controller ? "to" : "from"));
  const TagType* type = t.known_type;
  const bool bool_channel = c.type.kind == program::Type::Kind::boolean;
  if (type != nullptr && (type->kind == Kind::boolean) != bool_channel)
    troubles.push_back(bool_channel ? fmt::format("{} is no BOOL, and {} is a bool", t.type, c.name)
                                    : fmt::format("a BOOL cannot hold {}", c.name));
  else if (type != nullptr && type->kind != Kind::boolean && type->kind != Kind::real) {
    const bool counts = c.word.lowest < c.word.highest;
    if (c.type.kind == program::Type::Kind::real && !counts)
      troubles.push_back(fmt::format("{} holds whole numbers, and {} has no counts", t.type, c.name));
    else if (counts && (c.word.lowest < type->lowest() || c.word.highest > type->highest()))
      troubles.push_back(fmt::format("{} holds {:.0f} .. {:.0f}, and {} counts {:.0f} .. {:.0f}", t.type,
                                     type->lowest(), type->highest(), c.name, c.word.lowest, c.word.highest));
  } else if (type != nullptr && type->kind == Kind::real && c.type.kind == program::Type::Kind::choice) {
    troubles.push_back(fmt::format("{} is a choice of {}, and {} is no whole number", c.name, c.choice_size, t.type));
  }
  if (t.known_unit && c.type.kind == program::Type::Kind::real) {
    if (t.known_unit->dimension != c.type.dimension)
      troubles.push_back(fmt::format("{} is in {}, {} in {}", t.name, t.unit, c.name, c.unit.text));
    else if (t.known_unit->factor != c.unit.factor || t.known_unit->offset != c.unit.offset)
      troubles.push_back(
          fmt::format("{} counts in {}, {} is read in {}: a factor between them", t.name, t.unit, c.name, c.unit.text));
  }
  return troubles;
}

std::vector<Match> match(const std::vector<MatchChannel>& channels, const std::vector<Tag>& tags,
                         const std::vector<int>& fixed) {
  Matcher matcher(channels, tags);
  std::vector<Match> matches(channels.size());
  std::vector<bool> taken(tags.size(), false);
  for (std::size_t c = 0; c < channels.size(); ++c) {
    if (c >= fixed.size() || fixed[c] < 0) continue;
    matches[c].tag = fixed[c];
    matches[c].confirmed = true;
    matches[c].score = 1;
    taken[static_cast<std::size_t>(fixed[c])] = true;
  }
  // The most alike first; what is taken is taken. Whoever then has nothing may look at what is left.
  constexpr int kRounds = 5;
  bool anew = true;
  for (int round = 0; round < kRounds && anew; ++round) {
    std::vector<Matcher::Pair> pairs;
    for (std::size_t c = 0; c < channels.size(); ++c) {
      if (matches[c].tag >= 0) continue;
      const auto best = matcher.best_of(c, taken);
      pairs.insert(pairs.end(), best.begin(), best.end());
    }
    std::stable_sort(pairs.begin(), pairs.end(), [](const auto& a, const auto& b) { return a.score > b.score; });
    anew = false;
    for (const Matcher::Pair& p : pairs) {
      Match& m = matches[static_cast<std::size_t>(p.channel)];
      if (taken[static_cast<std::size_t>(p.tag)]) continue;
      if (m.tag >= 0) {
        m.next = std::max(m.next, p.score);
        continue;
      }
      m.tag = p.tag;
      m.score = p.score;
      taken[static_cast<std::size_t>(p.tag)] = true;
      anew = true;
    }
  }
  for (std::size_t c = 0; c < channels.size(); ++c) {
    if (matches[c].tag >= 0)
      matches[c].troubles = troubles_between(channels[c], tags[static_cast<std::size_t>(matches[c].tag)]);
  }
  return matches;
}

// ---- the table

std::string map_text(const std::vector<MatchChannel>& channels, const std::vector<Tag>& tags,
                     const std::vector<Match>& matches) {
  std::string text = csv_line({"channel", "tag", "address", "type", "unit", "score", "state"});
  std::vector<bool> used(tags.size(), false);
  const auto row = [&](const std::string& channel, const Tag* t, const std::string& score, const char* state) {
    text += csv_line({channel, t != nullptr ? t->name : "", t != nullptr ? t->address : "", t != nullptr ? t->type : "",
                      t != nullptr ? t->unit : "", score, state});
  };
  for (std::size_t c = 0; c < channels.size(); ++c) {
    const Match& m = matches[c];
    if (m.tag < 0) {
      row(channels[c].name, nullptr, "", "no tag");
      continue;
    }
    used[static_cast<std::size_t>(m.tag)] = true;
    row(channels[c].name, &tags[static_cast<std::size_t>(m.tag)], fmt::format("{:.2f}", m.score),
        m.confirmed ? "confirmed" : "proposed");
  }
  for (std::size_t t = 0; t < tags.size(); ++t) {
    if (!used[t]) row("", &tags[t], "", "no channel");
  }
  return text;
}

Result<std::vector<MapRow>> read_map(const std::string& text, const std::string& file) {
  const Csv csv = read_csv(text);
  if (!csv.trouble.empty()) return Failure{fmt::format("{}:{}", file, csv.trouble_line), "", csv.trouble};
  std::vector<MapRow> rows;
  if (csv.rows.empty()) return rows;
  std::map<std::string, std::size_t> column;
  for (std::size_t i = 0; i < csv.rows[0].fields.size(); ++i) column[csv.rows[0].fields[i].text] = i;
  for (const char* title : {"channel", "tag", "state"}) {
    if (!column.contains(title))
      return Failure{fmt::format("{}:{}", file, csv.rows[0].line), "",
                     fmt::format("there is no column `{}`: this is no table that `isodyne io match` wrote", title)};
  }
  const auto cell = [&](const CsvRow& r, const char* title) {
    const auto found = column.find(title);
    return found == column.end() ? std::string() : r.text(found->second);
  };
  std::map<std::string, int> seen;
  for (std::size_t i = 1; i < csv.rows.size(); ++i) {
    const CsvRow& r = csv.rows[i];
    MapRow row{cell(r, "channel"), cell(r, "tag"), cell(r, "address"), cell(r, "type"), cell(r, "unit"), 0, false};
    row.confirmed = cell(r, "state") == "confirmed";
    row.score = csv_number(cell(r, "score"), csv.decimal_comma()).value_or(0);
    for (const std::string& key : {"channel " + row.channel, "tag " + row.tag}) {
      if (key == "channel " || key == "tag ") continue;
      const auto [first, fresh] = seen.try_emplace(key, r.line);
      if (!fresh)
        return Failure{fmt::format("{}:{}", file, r.line), "",
                       fmt::format("{} stands in line {} already", key, first->second)};
    }
    rows.push_back(std::move(row));
  }
  return rows;
}

std::vector<std::string> differences(const std::vector<MapRow>& before, const std::vector<MatchChannel>& channels,
                                     const std::vector<Tag>& tags) {
  std::vector<std::string> lines;
  std::map<std::string, const Tag*> now;
  for (const Tag& t : tags) now.try_emplace(t.name, &t);
  std::set<std::string> old_tags, old_channels, new_channels;
  for (const MatchChannel& c : channels) new_channels.insert(c.name);
  for (const MapRow& r : before) {
    if (!r.channel.empty()) old_channels.insert(r.channel);
    if (!r.channel.empty() && !new_channels.contains(r.channel))
      lines.push_back(fmt::format("channel {} is gone", r.channel));
    if (r.tag.empty()) continue;
    old_tags.insert(r.tag);
    const auto found = now.find(r.tag);
    if (found == now.end()) {
      lines.push_back(fmt::format("tag {} is gone{}", r.tag, r.channel.empty() ? "" : "; it was " + r.channel));
      continue;
    }
    const Tag& t = *found->second;
    const auto changed = [&](const char* what, const std::string& was, const std::string& is) {
      if (was != is)
        lines.push_back(fmt::format("tag {}: {} was {}, is {}", r.tag, what, was.empty() ? "empty" : was,
                                    is.empty() ? "empty" : is));
    };
    changed("address", r.address, t.address);
    changed("type", r.type, t.type);
    changed("unit", r.unit, t.unit);
  }
  for (const Tag& t : tags) {
    if (!old_tags.contains(t.name)) lines.push_back(fmt::format("tag {} is new", t.name));
  }
  for (const MatchChannel& c : channels) {
    if (!old_channels.contains(c.name)) lines.push_back(fmt::format("channel {} is new", c.name));
  }
  return lines;
}

}  // namespace isodyne::io
