#include "isodyne/live/command_line.h"

#include <algorithm>
#include <sstream>

#include "isodyne/core/text.h"
#include "isodyne/live/grid.h"

namespace isodyne::live {

namespace {

constexpr std::size_t kMostHistory = 500, kMostLine = 4000;

struct Split {
  std::vector<std::string> words;
  std::size_t last_at = 0;  ///< where the last word begins, with its quote
  bool after_blank = true;  ///< the next letter begins a word
};

Split split(const std::string& line) {
  Split all;
  std::string word;
  bool in = false;
  char quote = 0;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (!in && c != ' ') all.last_at = i, in = true, word.clear();
    if (!in) continue;
    if (quote != 0) {
      if (c == quote)
        quote = 0;
      else
        word += c;
    } else if (c == '"' || c == '\'') {
      quote = c;
    } else if (c == ' ') {
      all.words.push_back(word);
      in = false;
    } else {
      word += c;
    }
  }
  all.after_blank = !in;
  if (in) all.words.push_back(word);
  return all;
}

std::string quoted(const std::string& word) {
  return word.find(' ') == std::string::npos ? word : "\"" + word + "\"";
}

/// What may stand where the help says `word`.
std::vector<std::string> candidates(const std::string& word, const std::vector<std::string>& before, bool sets,
                                    const Mirror& run) {
  std::vector<std::string> all;
  if (word.starts_with("NAME")) {
    for (const Signal& s : run.signals()) {
      if (!sets || s.can_be_set) all.push_back(s.name);
    }
  } else if (word == "FAULT") {
    for (const FaultState& f : run.faults) all.push_back(f.name);
  } else if (word == "TABLE") {
    all = run.tables;
  } else if (word == "SET|FILE") {
    all = run.sets;
  } else if (word == "REQUIREMENT") {
    all = run.requirements;
  } else if (word == "VALUE" && before.size() >= 2) {
    const Signal* s = run.signal(before[1]);
    if (s == nullptr) return all;
    if (s->truth()) return {"true", "false"};
    if (!s->labels.empty()) return s->labels;
    if (!s->unit.empty() && s->unit != "1") {
      // The value that it has, in its unit: what comes is like it.
      const Value now = run.value(s->name);
      if (!now.read.empty()) all.push_back(now.read);
    }
  }
  return all;
}

}  // namespace

std::vector<std::string> words_of(const std::string& line) {
  return split(line).words;
}

std::vector<std::string> completions(const std::string& line, const Phrases& phrases, const Mirror& run) {
  const Split s = split(line);
  std::vector<std::string> words = s.words;
  const std::string begun = s.after_blank || words.empty() ? "" : words.back();
  if (!s.after_blank && !words.empty()) words.pop_back();
  const std::string kept = line.substr(0, s.after_blank ? line.size() : s.last_at);
  std::vector<std::string> may;
  if (words.empty()) {
    for (const Phrase& p : phrases.all) may.push_back(p.name);
  } else {
    const auto phrase =
        std::find_if(phrases.all.begin(), phrases.all.end(), [&](const Phrase& p) { return p.name == words[0]; });
    if (phrase == phrases.all.end()) return {};
    std::istringstream list(phrase->words);
    std::vector<std::string> shape;
    for (std::string w; list >> w;) shape.push_back(w);
    std::string wanted;
    std::size_t plain = 0;
    for (std::size_t i = 1; i < words.size(); ++i)
      plain += words[i].starts_with("--") || words[i - 1].starts_with("--") ? 0 : 1;
    if (words.back().starts_with("--")) {
      for (const auto& [name, value] : phrase->options) {
        if ("--" + name == words.back()) wanted = value;
      }
      if (wanted.empty() && plain < shape.size()) wanted = shape[plain];
    } else if (!shape.empty()) {
      wanted = plain < shape.size() ? shape[plain] : shape.back().ends_with("…") ? shape.back() : "";
    }
    // "5": the unit is not yet there.
    const Signal* about = words.size() > 1 ? run.signal(words[1]) : nullptr;
    const bool sets = phrase->words.find("VALUE") != std::string::npos ||
                      phrase->words.find("TABLE") != std::string::npos || phrase->name == "release";
    may = candidates(wanted, words, sets, run);
    if (wanted == "VALUE" && about != nullptr && about->number() && !about->unit.empty() && about->unit != "1" &&
        !begun.empty() && begun.find_first_not_of("0123456789.-+e ") == std::string::npos)
      may = {begun.substr(0, begun.find_last_not_of(' ') + 1) + " " + about->unit};
    if (begun.starts_with("-")) {
      for (const auto& [name, value] : phrase->options) may.push_back("--" + name);
    }
  }
  std::vector<std::string> all;
  for (const std::string& m : may) {
    if (m.starts_with(begun)) all.push_back(kept + quoted(m) + " ");
  }
  return all;
}

void CommandLine::begin(const std::string& text) {
  open = true;
  text_ = text;
  cursor_ = text.size();
  place_ = history_.size();
  choices_.clear();
}

void CommandLine::insert(const std::string& utf8) {
  if (text_.size() + utf8.size() > kMostLine) return;
  text_.insert(cursor_, utf8);
  cursor_ += utf8.size();
}

void CommandLine::recall(int by) {
  if (by < 0 && place_ == 0) return;
  if (by > 0 && place_ >= history_.size()) return;
  if (place_ == history_.size()) kept_ = text_;
  place_ = by < 0 ? place_ - 1 : place_ + 1;
  text_ = place_ == history_.size() ? kept_ : history_[place_];
  cursor_ = text_.size();
}

std::optional<std::string> CommandLine::key(
    const Key& key, const std::function<std::vector<std::string>(const std::string&)>& complete) {
  const auto back = [&](std::size_t at) {
    while (at > 0 && (static_cast<unsigned char>(text_[--at]) & 0xc0) == 0x80) {
    }
    return at;
  };
  const auto forth = [&](std::size_t at) {
    while (at < text_.size() && (static_cast<unsigned char>(text_[++at]) & 0xc0) == 0x80) {
    }
    return at;
  };
  if (key.kind != Key::Kind::tab) choices_.clear();
  switch (key.kind) {
    case Key::Kind::escape:
      open = false;
      break;
    case Key::Kind::enter: {
      open = false;
      const std::string line = text_;
      if (line.find_first_not_of(' ') == std::string::npos) break;
      if (history_.empty() || history_.back() != line) history_.push_back(line);
      if (history_.size() > kMostHistory) history_.erase(history_.begin());
      return line;
    }
    case Key::Kind::tab: {
      const std::vector<std::string> all = complete(text_.substr(0, cursor_));
      if (all.empty()) break;
      // As far as they are the same.
      std::string same = all.front();
      for (const std::string& one : all) {
        const auto [a, b] = std::mismatch(same.begin(), same.end(), one.begin(), one.end());
        (void)b;
        same.erase(a, same.end());
      }
      if (same.size() > cursor_ || all.size() == 1) {
        text_ = same + text_.substr(cursor_);
        cursor_ = same.size();
      }
      if (all.size() > 1) choices_ = all;
      break;
    }
    case Key::Kind::up:
      recall(-1);
      break;
    case Key::Kind::down:
      recall(1);
      break;
    case Key::Kind::left:
      cursor_ = back(cursor_);
      break;
    case Key::Kind::right:
      cursor_ = forth(cursor_);
      break;
    case Key::Kind::home:
      cursor_ = 0;
      break;
    case Key::Kind::end:
      cursor_ = text_.size();
      break;
    case Key::Kind::backspace: {
      const std::size_t at = back(cursor_);
      text_.erase(at, cursor_ - at);
      cursor_ = at;
      break;
    }
    case Key::Kind::erase:
      text_.erase(cursor_, forth(cursor_) - cursor_);
      break;
    case Key::Kind::letter:
      if (key.letter >= U' ') insert(utf8_of(key.letter));
      break;
    default:
      break;
  }
  return std::nullopt;
}

}  // namespace isodyne::live
