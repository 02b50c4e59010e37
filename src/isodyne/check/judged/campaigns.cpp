#include "isodyne/check/judged/campaigns.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/core/text.h"

namespace isodyne::check {

using program::Campaign;

namespace {

constexpr std::int64_t kMostDraws = 10'000'000;
constexpr std::size_t kMostFaultSets = 100'000;

}  // namespace

void Campaigns::define() {
  for (const lang::CampaignDecl& c : check_.document.campaigns) campaign(c);
}

void Campaigns::campaign(const lang::CampaignDecl& c) {
  if (named_.twice(c, check_.document.campaigns, "campaign")) return;
  Campaign made;
  made.name = c.name.text;
  made.doc = c.doc;
  scenarios(c, made);
  faults(c, made);
  settings(c, made);
  for (const lang::CampaignDecl::Vary& v : c.varied) vary(v, made);
  draw(c, made);
  keep(c, made);
  until(c, made);
  check_.program.campaigns.push_back(std::move(made));
}

void Campaigns::scenarios(const lang::CampaignDecl& c, Campaign& made) {
  if (c.scenarios.empty())
    check_.error(Code::missing, c.name.span, "a campaign says which scenarios it runs", "scenario NAME, NAME");
  for (const lang::Name& name : c.scenarios) {
    const auto place = named_.scenario(name);
    if (!place) continue;
    if (std::find(made.scenarios.begin(), made.scenarios.end(), *place) != made.scenarios.end())
      check_.error(Code::duplicate, name.span, fmt::format("scenario `{}` stands here twice", name.text));
    made.scenarios.push_back(*place);
  }
}

/// `each` and `pairs` are of all faults that come by themselves: one by hand would never act.
void Campaigns::faults(const lang::CampaignDecl& c, Campaign& made) {
  using Kind = lang::CampaignDecl::FaultSets::Kind;
  const auto& all = check_.program.faults;
  const auto add = [&](std::vector<std::int32_t> set) {
    const bool there = std::find(made.fault_sets.begin(), made.fault_sets.end(), set) != made.fault_sets.end();
    if (!there) made.fault_sets.push_back(std::move(set));
  };
  for (const lang::CampaignDecl::FaultSets& sets : c.faults) {
    const std::size_t before = made.fault_sets.size();
    std::vector<std::int32_t> of;
    for (const lang::Name& name : sets.of) {
      if (const auto fault = named_.fault(name)) of.push_back(*fault);
    }
    for (std::size_t i = 0; i < all.size() && sets.of.empty(); ++i) {
      if (all[i].when != program::Fault::When::by_hand) of.push_back(static_cast<std::int32_t>(i));
    }
    if (sets.kind == Kind::none) {
      add({});
    } else if (sets.kind != Kind::pairs) {
      for (const std::int32_t f : of) add({f});
    } else if (of.size() * of.size() / 2 > kMostFaultSets) {
      check_.error(Code::out_of_limits, sets.span,
                   fmt::format("the pairs of {} are more than {}", counted(of.size(), "fault"), kMostFaultSets),
                   "name those that are to meet: pairs of A, B, C");
    } else {
      for (std::size_t i = 0; i < of.size(); ++i) {
        for (std::size_t k = i + 1; k < of.size(); ++k) add({of[i], of[k]});
      }
    }
    // It would be a campaign without faults, and nobody would know.
    if (made.fault_sets.size() == before && of.size() == sets.of.size())
      check_.error(Code::missing, sets.span, "there is no case in this that is not there already",
                   "`each` is of faults that come by themselves, `pairs` of two at least");
  }
  if (made.fault_sets.empty()) made.fault_sets.emplace_back();
}

void Campaigns::settings(const lang::CampaignDecl& c, Campaign& made) {
  std::vector<std::string> known;
  for (const program::Controller& controller : check_.program.controllers) {
    for (const program::Setting& s : controller.settings) {
      if (!contains(known, s.name)) known.push_back(s.name);
    }
  }
  for (const lang::Name& name : c.settings) {
    if (!contains(known, name.text)) {
      report_unknown_word(check_, name, "setting", known);
      continue;
    }
    if (contains(made.settings, name.text))
      check_.error(Code::duplicate, name.span, fmt::format("setting `{}` stands here twice", name.text));
    made.settings.push_back(name.text);
  }
  if (made.settings.empty()) made.settings.emplace_back();
}

std::optional<double> Campaigns::value(const lang::Expr& e, VarId id) {
  const Variable v = check_.program.variable(id);
  const std::string what = fmt::format("a value of `{}`", v.name);
  const NodeId node = x_.check_as(e, {&check_.root, nullptr}, v.type, what);
  const auto number = node == kNone ? std::nullopt : check_.constant(node, e.span, what.c_str());
  if (!number || !v.limits || (*number >= v.limits->first && *number <= v.limits->second)) return number;
  check_.error(Code::out_of_limits, e.span,
               fmt::format("`{}` can be {} to {}", v.name, check_.program.format(id, v.limits->first),
                           check_.program.format(id, v.limits->second)));
  return std::nullopt;
}

void Campaigns::vary(const lang::CampaignDecl::Vary& v, Campaign& made) {
  const std::vector<VarId> ids = check_.resolve_start(v.what);
  if (ids.empty()) return;
  const VarId id = ids.front();
  if (ids.size() > 1)
    return void(check_.error(Code::type_mismatch, v.what.span,
                             fmt::format("`{}` is a vector, and its elements are varied one by one", v.what.text()),
                             fmt::format("vary {}[1] …", v.what.text())));
  if (!check_.program.startable(id))
    return void(check_.error(Code::not_settable, v.what.span,
                             fmt::format("`{}` cannot begin with another value", v.what.text()),
                             "states, memories, inputs and parameters can; a parameter that is `fixed` cannot"));
  for (const Campaign::Vary& other : made.varied) {
    if (other.what == id)
      return void(check_.error(Code::duplicate, v.what.span, fmt::format("`{}` is varied twice", v.what.text())));
  }
  Campaign::Vary one;
  one.what = id;
  if (v.from) {
    const Type& type = check_.program.variable(id).type;
    if (type.kind != Type::Kind::real)
      return void(check_.error(Code::type_mismatch, v.span,
                               fmt::format("`{}` has no values between two", v.what.text()),
                               fmt::format("vary {} = A, B, C", v.what.text())));
    const auto from = value(*v.from, id), to = value(*v.to, id);
    if (!from || !to) return;
    if (!(*from < *to))
      return void(check_.error(Code::out_of_limits, v.to->span, "the upper end is not above the lower one"));
    one.range = std::pair{*from, *to};
  }
  for (const lang::ExprPtr& e : v.values) {
    if (const auto number = value(*e, id)) one.values.push_back(*number);
  }
  made.varied.push_back(std::move(one));
}

std::int64_t Campaigns::count(const lang::Expr& e, const char* what, std::int64_t most) {
  const NodeId node = x_.check_as(e, {&check_.root, nullptr}, {Type::Kind::real, {}, kNone}, what);
  const auto number = node == kNone ? std::nullopt : check_.constant(node, e.span, what);
  if (!number) return 0;
  if (*number == std::floor(*number) && *number >= 1 && *number <= static_cast<double>(most))
    return static_cast<std::int64_t>(*number);
  check_.error(Code::out_of_limits, e.span, fmt::format("{} is a whole number from 1 to {}", what, most));
  return 0;
}

void Campaigns::draw(const lang::CampaignDecl& c, Campaign& made) {
  const auto range = std::find_if(c.varied.begin(), c.varied.end(), [](const auto& v) { return v.from != nullptr; });
  if (!c.draws) {
    if (range != c.varied.end())
      check_.error(Code::missing, range->span,
                   fmt::format("from what `{}` ranges over, cases have to be drawn", range->what.text()),
                   "draw 100 by latin_hypercube");
    return;
  }
  made.draws = count(*c.draws, "how many cases are drawn", kMostDraws);
  using Draw = Campaign::Draw;
  std::vector<std::string> known;
  for (const Draw d : {Draw::random, Draw::latin_hypercube, Draw::sobol, Draw::grid, Draw::pairwise}) {
    known.emplace_back(program::draw_word(d));
    if (c.method.text == known.back()) made.draw = d;
  }
  if (made.draw == Draw::all) return report_unknown_word(check_, c.method, "way to draw", known);
  if (made.draw == Draw::pairwise && range != c.varied.end())
    check_.error(Code::type_mismatch, range->span, "what meets in pairs are values, not ranges",
                 fmt::format("vary {} = A, B, C", range->what.text()));
}

void Campaigns::keep(const lang::CampaignDecl& c, Campaign& made) {
  using Keep = Campaign::Keep;
  if (c.keep.text.empty()) return;
  std::vector<std::string> known;
  bool found = false;
  for (const Keep k : {Keep::none, Keep::broken, Keep::all, Keep::worst}) {
    known.emplace_back(program::keep_word(k));
    if (c.keep.text == known.back()) made.keep = k, found = true;
  }
  if (!found) return report_unknown_word(check_, c.keep, "choice of recordings", known);
  if (made.keep == Keep::worst && !c.kept)
    check_.error(Code::missing, c.keep.span, "it does not say how many", "keep worst 10");
  if (made.keep != Keep::worst && c.kept)
    check_.error(Code::unexpected, c.kept->span, fmt::format("`keep {}` takes no number", c.keep.text));
  if (made.keep == Keep::worst && c.kept) made.kept = count(*c.kept, "how many recordings are kept", 10'000);
}

void Campaigns::until(const lang::CampaignDecl& c, Campaign& made) {
  if (!c.until_share) return;
  std::vector<std::string> known;
  for (int kind = 0; kind < program::kCoverageKinds; ++kind) {
    known.emplace_back(program::coverage_word(static_cast<program::CoverageKind>(kind)));
    if (c.until.text == known.back()) made.until.emplace(static_cast<program::CoverageKind>(kind), 0.0);
  }
  if (!made.until) return report_unknown_word(check_, c.until, "kind of coverage", known);
  const char* const what = "how much is to be covered";
  const NodeId node = x_.check_as(*c.until_share, {&check_.root, nullptr}, {Type::Kind::real, {}, kNone}, what);
  const auto share = node == kNone ? std::nullopt : check_.constant(node, c.until_share->span, what);
  if (share && !(*share > 0 && *share <= 1))
    check_.error(Code::out_of_limits, c.until_share->span, fmt::format("{} is more than 0 % and at most 100 %", what));
  if (share) made.until->second = *share;
}

}  // namespace isodyne::check
