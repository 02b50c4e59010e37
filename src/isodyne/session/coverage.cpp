#include "isodyne/session/coverage.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "isodyne/session/case_views.h"

namespace isodyne::session {

using program::CoverageKind;
using program::Role;
using program::Type;

namespace {

/// What people would call a state of the plant or the logic; not the same value once more on its way through a channel.
bool counts(const program::Variable& v) {
  if (v.type.kind != Type::Kind::boolean && v.type.kind != Type::Kind::choice) return false;
  switch (v.role) {
    case Role::time:
    case Role::param:
    case Role::fixed_param:
    case Role::sensor_true:
    case Role::counts:
    case Role::signal:
    case Role::controller_output:
    case Role::measure:
    case Role::field:
    case Role::fault:
    case Role::hidden:
      return false;
    default:
      return true;
  }
}

std::vector<std::int32_t> faults_in(const program::Campaign& campaign) {
  std::vector<std::int32_t> all;
  for (const auto& set : campaign.fault_sets) all.insert(all.end(), set.begin(), set.end());
  std::sort(all.begin(), all.end());
  all.erase(std::unique(all.begin(), all.end()), all.end());
  return all;
}

}  // namespace

CoverageItems::CoverageItems(const program::Program& program, const program::Campaign& campaign) {
  for (const std::int32_t f : faults_in(campaign)) items_.push_back({CoverageKind::faults, at(program.faults, f).name});
  add(program, campaign, program, -1, "", "");
  for (std::size_t c = 0; c < program.controllers.size(); ++c) {
    std::set<std::string> known;
    for (const std::string& chosen : campaign.settings.empty() ? std::vector<std::string>{""} : campaign.settings) {
      const program::Setting* s = bench::setting_of(program.controllers[c], chosen);
      if (s == nullptr || s->logic == nullptr || !known.insert(s->name).second) continue;
      add(*s->logic, campaign, program, static_cast<std::int32_t>(c), s->name,
          program.controllers[c].name + " as " + s->name + ": ");
    }
  }
}

void CoverageItems::add(const program::Program& program, const program::Campaign& campaign,
                        const program::Program& bench, std::int32_t logic, const std::string& setting,
                        const std::string& prefix) {
  constexpr std::size_t kMostFaultItems = 20'000;  // of all of them; a campaign has what comes first
  for (const program::VarId id : program.listed) {
    const program::Variable& v = program.variable(id);
    if (!counts(v)) continue;
    Seen seen;
    seen.logic = logic, seen.setting = setting, seen.id = id, seen.first = items_.size();
    const std::string name = prefix + (v.name.starts_with("it.") ? v.name.substr(3) : v.name);
    if (v.type.kind == Type::Kind::boolean) {
      seen.count = 2;
      for (const char* value : {"false", "true"})
        items_.push_back({CoverageKind::truths, fmt::format("{} is {}", name, value)});
      seen_.push_back(std::move(seen));
      continue;
    }
    const auto& labels = at(program.choices, v.type.choice).labels;
    const auto machine = std::find_if(program.machines.begin(), program.machines.end(),
                                      [&](const program::StateMachine& m) { return m.mode == id; });
    const bool modes = machine != program.machines.end();
    seen.count = labels.size();
    for (const std::string& l : labels)
      items_.push_back({modes ? CoverageKind::modes : CoverageKind::labels, fmt::format("{} is {}", name, l)});
    if (modes) {
      seen.machine = static_cast<std::int32_t>(machine - program.machines.begin());
      seen.inactive = machine->inactive;
      for (const program::Transition& t : machine->transitions) {
        if (!seen.ways.emplace(std::pair(t.from, t.to), items_.size()).second) continue;
        items_.push_back(
            {CoverageKind::transitions, fmt::format("{}: {} → {}", name, labels[static_cast<std::size_t>(t.from)],
                                                    labels[static_cast<std::size_t>(t.to)])});
      }
    }
    // What remembers a label is as good as a machine.
    if ((modes || v.role == Role::sampled) && items_.size() < kMostFaultItems) {
      for (const std::int32_t f : faults_in(campaign)) {
        seen.faults.emplace(f, items_.size());
        for (const std::string& l : labels)
          items_.push_back({CoverageKind::faults_in_modes,
                            fmt::format("{} begins while {} is {}", at(bench.faults, f).name, name, l)});
      }
    }
    seen_.push_back(std::move(seen));
  }
}

CoverageWatch::CoverageWatch(const CoverageItems& items, const RunRequest& request)
    : items_(items), program_(*request.bench->program), met_(items.all().size(), 0) {
  for (const CoverageItems::Seen& s : items.seen_) {
    if (s.logic >= 0) {
      const auto* setting =
          bench::setting_of(program_.controllers[static_cast<std::size_t>(s.logic)], request.plan.setting);
      if (setting == nullptr || setting->name != s.setting) continue;
    }
    looked_.push_back({&s, -1});
  }
}

void CoverageWatch::look(Looked& l, double value) {
  const int now = static_cast<int>(value);
  if (now == l.last || now < 0 || static_cast<std::size_t>(now) >= l.of->count) return;
  if (l.of->logic >= 0 && l.last >= 0) {
    if (const auto way = l.of->ways.find({l.last, now}); way != l.of->ways.end()) note(way->second);
  }
  l.last = now;
  note(l.of->first + static_cast<std::size_t>(now));
}

void CoverageWatch::image(const observe::Image& image) {
  std::int32_t which = -1;
  const double* values = image.variables;
  for (Looked& l : looked_) {
    if (l.of->logic != which) {
      which = l.of->logic;
      values = which < 0 || run_ == nullptr ? image.variables : run_->logic_values(static_cast<std::size_t>(which));
    }
    if (values != nullptr) look(l, values[l.of->id]);
  }
  for (const std::int32_t fault : begun_) {
    for (const Looked& l : looked_) {
      const auto first = l.of->faults.find(fault);
      if (first != l.of->faults.end() && l.last >= 0) note(first->second + static_cast<std::size_t>(l.last));
    }
  }
  begun_.clear();
}

void CoverageWatch::event(const observe::Event& event) {
  if (event.kind == observe::EventKind::fault_on) {
    begun_.push_back(event.subject);
    const std::string& name = at(program_.faults, event.subject).name;
    for (std::size_t i = 0; i < items_.all().size() && items_.all()[i].kind == CoverageKind::faults; ++i) {
      if (items_.all()[i].text == name) note(i);
    }
  }
  if (event.kind != observe::EventKind::mode) return;
  for (const Looked& l : looked_) {
    if (l.of->logic >= 0 || l.of->machine != event.subject) continue;
    const program::StateMachine& m = at(program_.machines, event.subject);
    if (event.detail < 0 || static_cast<std::size_t>(event.detail) >= m.transitions.size()) continue;
    const program::Transition& t = m.transitions[static_cast<std::size_t>(event.detail)];
    if (const auto way = l.of->ways.find({t.from, t.to}); way != l.of->ways.end()) note(way->second);
    note(l.of->first + static_cast<std::size_t>(t.to));  // it may be left again within the instant
  }
}

std::string CoverageWatch::met() const {
  std::string text((met_.size() + 3) / 4, '0');
  for (std::size_t i = 0; i < text.size(); ++i) {
    int digit = 0;
    for (std::size_t k = 0; k < 4 && 4 * i + k < met_.size(); ++k) digit |= met_[4 * i + k] << k;
    text[i] = "0123456789abcdef"[digit];
  }
  return text;
}

std::string kind_text(CoverageKind kind) {
  std::string text = program::coverage_word(kind);
  std::replace(text.begin(), text.end(), '_', ' ');
  return text;
}

CoverageSum::CoverageSum(const CaseBookKey& key) : key_(key), met_(key.items.size(), 0) {
  ends_.assign(key.factors.size(), {HUGE_VAL, -HUGE_VAL});
}

namespace {
constexpr std::size_t kParts = 4;  ///< of a range, where pairs of values are asked for
std::size_t levels_of(const CaseFactor& f) {
  return f.values.empty() ? kParts : f.values.size();
}
std::string level_text(const CaseFactor& f, std::size_t level) {
  if (!f.values.empty()) return f.name + " = " + f.values[level];
  const double part = (f.high - f.low) / static_cast<double>(kParts);
  return fmt::format("{} in {:.4g} .. {:.4g}", f.name, f.low + part * static_cast<double>(level),
                     f.low + part * static_cast<double>(level + 1));
}
}  // namespace

std::size_t CoverageSum::level_of(std::size_t factor, const CaseResult& r) const {
  const CaseFactor& f = key_.factors[factor];
  if (factor >= 3 && f.values.empty()) {
    const double share = (r.values[factor - 3] - f.low) / (f.high - f.low);
    return std::min(static_cast<std::size_t>(std::max(0.0, share) * static_cast<double>(kParts)), kParts - 1);
  }
  const std::string text = factor == 0   ? r.scenario
                           : factor == 1 ? r.faults.empty() ? "none" : r.faults
                           : factor == 2 ? r.setting
                                         : format_exact(r.values[factor - 3]);
  const auto found = std::find(f.values.begin(), f.values.end(), text);
  return static_cast<std::size_t>(found - f.values.begin());
}

void CoverageSum::add(const CaseResult& r) {
  if (r.outcome == kNotRun) return;
  for (std::size_t i = 0; i < met_.size() && i / 4 < r.met.size(); ++i) {
    const char c = r.met[i / 4];
    const int digit = c >= 'a' ? c - 'a' + 10 : c - '0';
    if ((digit >> (i % 4)) & 1) met_[i] = 1;
  }
  for (const SummaryRow& row : r.rows) {
    auto known = std::find_if(requirements_.begin(), requirements_.end(),
                              [&](const auto& one) { return one.first == row.name; });
    if (known == requirements_.end()) known = requirements_.insert(known, {row.name, false});
    known->second = known->second || row.tests > 0;
  }
  std::vector<std::size_t> levels;
  for (std::size_t f = 0; f < key_.factors.size(); ++f) levels.push_back(level_of(f, r));
  for (std::size_t a = 0; a < levels.size(); ++a) {
    for (std::size_t b = a + 1; b < levels.size(); ++b) pairs_.insert({a, levels[a], b, levels[b]});
  }
  for (std::size_t f = 3; f < key_.factors.size(); ++f) {
    ends_[f].first = std::min(ends_[f].first, r.values[f - 3]);
    ends_[f].second = std::max(ends_[f].second, r.values[f - 3]);
  }
}

Coverage CoverageSum::of(CoverageKind kind) const {
  Coverage c;
  c.kind = kind;
  const auto one = [&](bool met, const std::string& text) {
    ++c.all;
    if (met)
      ++c.met;
    else
      c.missing.push_back(text);
  };
  if (kind == CoverageKind::requirements) {
    for (const auto& [name, tested] : requirements_) one(tested, name);
  } else if (kind == CoverageKind::pairs) {
    for (std::size_t a = 0; a < key_.factors.size(); ++a) {
      for (std::size_t b = a + 1; b < key_.factors.size(); ++b) {
        for (std::size_t i = 0; i < levels_of(key_.factors[a]); ++i) {
          for (std::size_t k = 0; k < levels_of(key_.factors[b]); ++k)
            one(pairs_.contains({a, i, b, k}),
                level_text(key_.factors[a], i) + " with " + level_text(key_.factors[b], k));
        }
      }
    }
  } else if (kind == CoverageKind::ends) {
    constexpr double kNear = 0.05;
    for (std::size_t f = 3; f < key_.factors.size(); ++f) {
      const auto& limits = key_.factors[f].limits;
      if (!limits) continue;
      const double near = kNear * (limits->second - limits->first);
      one(ends_[f].first <= limits->first + near,
          fmt::format("{} near {}", key_.factors[f].name, format_number(limits->first)));
      one(ends_[f].second >= limits->second - near,
          fmt::format("{} near {}", key_.factors[f].name, format_number(limits->second)));
    }
  } else {
    for (std::size_t i = 0; i < met_.size(); ++i) {
      if (key_.items[i].kind == kind) one(met_[i] != 0, key_.items[i].text);
    }
  }
  return c;
}

std::vector<Coverage> CoverageSum::all() const {
  std::vector<Coverage> every;
  for (int kind = 0; kind < program::kCoverageKinds; ++kind) {
    Coverage c = of(static_cast<CoverageKind>(kind));
    if (c.all > 0) every.push_back(std::move(c));
  }
  return every;
}

}  // namespace isodyne::session
