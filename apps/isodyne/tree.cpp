// tree: the fault tree of a hazard, what it comes to, and what runs say to it.

#include <algorithm>
#include <filesystem>
#include <map>

#include <fmt/format.h>

#include "interruption.h"
#include "isodyne/core/csv.h"
#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/exchange/open_psa.h"
#include "isodyne/present/tree_figure.h"
#include "isodyne/session/tree_proof.h"
#include "plans.h"
#include "subcommand.h"
#include "terminal.h"
#include "text_table.h"

namespace isodyne::app {

namespace {

namespace fs = std::filesystem;
using session::Proof;
using session::ProofFinding;
using trees::FaultTree;
using Align = TextTable::Align;

constexpr std::size_t kMostListed = 1'000'000;

/// A tree, of a hazard of a bench or of a file.
struct Asked {
  std::shared_ptr<const session::Bench> bench;  ///< null: the tree is of a file
  std::int32_t hazard = program::kNone;
  FaultTree tree;
  std::vector<std::string> faults;  ///< of its events; empty: none
  std::string from;
  const program::Hazard* of() const { return bench ? &at(bench->program->hazards, hazard) : nullptr; }
};

std::string probability_text(const std::optional<double>& p) {
  return p ? fmt::format("{:.3g}", *p) : "";
}

std::string names_of(const FaultTree& tree, const trees::CutSet& set) {
  std::string names;
  for (const std::int32_t e : set.events) list_on(names, tree.events[static_cast<std::size_t>(e)].name, " and ");
  return names.empty() ? "(always)" : names;
}

std::string faults_text(const program::Program& p, const std::vector<std::int32_t>& faults) {
  std::string names;
  for (const std::int32_t f : faults) list_on(names, at(p.faults, f).name, " and ");
  return names;
}

// --- which tree ---

/// --mission; of a hazard of a bench it stands in the text.
bool read_mission(const Arguments& arguments, std::optional<double>& over_s) {
  const auto text = arguments.value(Option::mission);
  if (!text) return true;
  const auto span = read_span(*text);
  if (!span || *span <= Time::zero())
    return say_error(fmt::format("--mission takes a time such as \"1000 h\", not `{}`", *text)), false;
  over_s = to_seconds(*span);
  return true;
}

void list_hazards(const program::Program& p) {
  TextTable table({{"Hazard"}, {"Level"}, {"Events", Align::right}, {"Broken"}, {"Meaning"}});
  for (const program::Hazard& h : p.hazards) {
    std::string broken;
    for (const std::int32_t r : h.broken) list_on(broken, at(p.requirements, r).name);
    table.row({h.name, h.level, h.top ? std::to_string(trees::tree_of(p, h).events.size()) : "no tree", broken, h.doc});
  }
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

std::optional<std::size_t> one_of(const std::string& wanted, const std::vector<std::string>& names, const char* what) {
  for (std::size_t i = 0; i < names.size(); ++i) {
    if (names[i] == wanted) return i;
  }
  const auto meant = did_you_mean(wanted, names);
  constexpr std::size_t kMost = 20;
  const std::vector<std::string> some(names.begin(),
                                      names.begin() + std::min<std::ptrdiff_t>(kMost, std::ssize(names)));
  say_error(
      fmt::format("there is no {} `{}`; {}", what, wanted,
                  meant ? *meant : fmt::format("there are: {}{}", listed(some), names.size() > kMost ? " …" : "")));
  return std::nullopt;
}

/// False: said, or listed.
bool take_hazard(const Arguments& arguments, Asked& asked, int& status) {
  const check::Loaded loaded = load_file(arguments.words[0]);
  print_diagnostics(loaded, arguments.words[0]);
  status = kWrongInput;
  if (loaded.program == nullptr) return false;
  asked.bench = session::bench_of(loaded, folder_of(arguments.words[0]));
  const program::Program& p = *asked.bench->program;
  if (p.hazards.empty()) return say_error("the bench has no `hazard`; docs/hazards.md says how one is written"), false;
  if (arguments.words.size() < 2) return list_hazards(p), status = kHeld, false;
  if (arguments.has(Option::mission))
    return say_error("--mission is about a tree of a file; a hazard says it by `over`"), false;
  std::vector<std::string> names;
  for (const program::Hazard& h : p.hazards) names.push_back(h.name);
  const auto found = one_of(arguments.words[1], names, "hazard");
  if (!found) return false;
  asked.hazard = static_cast<std::int32_t>(*found);
  if (!asked.of()->top)
    return say_error(fmt::format("hazard {} has no tree: `top = …` says what leads to it", asked.of()->name)), false;
  asked.tree = trees::tree_of(p, *asked.of());
  for (const FaultTree::Event& e : asked.tree.events) {
    const std::int32_t fault = at(p.basic_events, e.of).fault;
    asked.faults.push_back(fault == program::kNone ? "" : at(p.faults, fault).name);
  }
  return true;
}

bool take_file(const Arguments& arguments, const std::string& text, Asked& asked) {
  for (const Option option : {Option::prove, Option::setting}) {
    if (arguments.has(option))
      return say_error(
                 fmt::format("{} needs a bench, and {} is a tree by itself", spelled(option), arguments.words[0])),
             false;
  }
  std::optional<double> over_s;
  if (!read_mission(arguments, over_s)) return false;
  const auto trees = exchange::from_open_psa(arguments.words[0], text, over_s);
  if (!trees) return say_error(trees.failure().text()), false;
  for (const std::string& r : trees->remarks) say_aside(r);
  std::string gate = trees->tops.front();
  if (arguments.words.size() > 1) {
    std::vector<std::string> names;
    for (const auto& [name, input] : trees->gates) names.push_back(name);
    const auto found = one_of(arguments.words[1], names, "gate");
    if (!found) return false;
    gate = names[*found];
  } else if (trees->tops.size() > 1) {
    say_aside(fmt::format("{} is the first of {} gates that no other takes: {}", gate, trees->tops.size(),
                          listed(trees->tops)));
  }
  asked.tree = exchange::part_of(*trees, gate);
  for (const FaultTree::Event& e : asked.tree.events) {
    const auto fault = trees->faults.find(e.name);
    asked.faults.push_back(fault == trees->faults.end() ? "" : fault->second);
  }
  return true;
}

// --- what it says ---

void say_heading(const Asked& asked) {
  const program::Hazard* h = asked.of();
  std::string text = asked.tree.name;
  if (!asked.tree.doc.empty()) text += ": " + asked.tree.doc;
  if (h != nullptr && !h->level.empty()) text += fmt::format(" ({})", h->level);
  say(text);
  if (h == nullptr) return;
  const program::Program& p = *asked.bench->program;
  std::string broken, scenarios;
  for (const std::int32_t r : h->broken) list_on(broken, at(p.requirements, r).name, " or ");
  for (const std::int32_t s : h->scenarios) list_on(scenarios, at(p.scenarios, s).name);
  if (!broken.empty())
    say(fmt::format("Reached where {} is broken; tried in {}.", broken, scenarios.empty() ? "no scenario" : scenarios));
}

void show_cut_sets(const Asked& asked, const trees::CutSets& sets, std::size_t most) {
  TextTable table({{"Cut set"}, {"Probability", Align::right}, {"Share", Align::right}});
  const auto shown = sets.first(most);
  for (const trees::CutSet& c : shown) {
    const auto bound = sets.rare_event_bound();
    table.row({names_of(asked.tree, c), probability_text(c.probability),
               c.probability && bound && *bound > 0 ? fmt::format("{:.1f} %", 100 * *c.probability / *bound) : ""});
  }
  if (!table.empty()) put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  if (static_cast<double>(shown.size()) < sets.count())
    say(fmt::format("… and {} more; --most shows them",
                    trees::count_text(sets.count() - static_cast<double>(shown.size()))));
}

/// Not a hundred thousand of them.
std::string some_names(const FaultTree& tree, const std::vector<std::int32_t>& events) {
  constexpr std::size_t kMost = 12;
  std::string names;
  for (std::size_t i = 0; i < std::min(kMost, events.size()); ++i)
    list_on(names, tree.events[static_cast<std::size_t>(events[i])].name);
  return events.size() > kMost ? fmt::format("{} and {} more", names, events.size() - kMost) : names;
}

void say_sums(const Asked& asked, const trees::CutSets& sets) {
  std::string orders;
  for (std::size_t k = 0; k < trees::CutSets::kOrders; ++k) {
    const double n = sets.by_order()[k];
    if (n > 0)
      list_on(orders,
              fmt::format("{} of {}{}", trees::count_text(n), k, k + 1 == trees::CutSets::kOrders ? " or more" : ""));
  }
  say(fmt::format(
      "Minimal cut sets: {}{}", trees::count_text(sets.count()),
      orders.empty() ? "; the top is never reached" : fmt::format(" (by their number of events: {})", orders)));
  const FaultTree& tree = asked.tree;
  if (const auto p = sets.probability())
    say(fmt::format("Probability{}: {:.4g}; the sum over the cut sets, which is never less: {:.4g}",
                    tree.over_s ? fmt::format(" over {} h", format_number(*tree.over_s / trees::kHour)) : "", *p,
                    *sets.rare_event_bound()));
  std::vector<std::int32_t> unknown, timeless;
  for (const std::int32_t e : sets.without_probability())
    (tree.events[static_cast<std::size_t>(e)].rate ? timeless : unknown).push_back(e);
  if (!timeless.empty())
    say(fmt::format("No probability: nothing says over which time {} may happen (`over`, --mission)",
                    some_names(tree, timeless)));
  if (!unknown.empty())
    say(fmt::format("No probability: there is neither a rate nor a probability of {}", some_names(tree, unknown)));
  if (!sets.in_none().empty()) say(fmt::format("In no minimal cut set: {}", some_names(tree, sets.in_none())));
}

void show_importance(const Asked& asked, const trees::CutSets& sets, std::size_t most) {
  if (sets.importance().empty()) return;
  TextTable table({{"Event"},
                   {"Probability", Align::right},
                   {"Fussell-Vesely", Align::right},
                   {"Birnbaum", Align::right},
                   {"Criticality", Align::right},
                   {"Worth if it has happened", Align::right},
                   {"if it never does", Align::right},
                   {asked.bench ? "Fault" : "Meaning"}});
  std::vector<std::size_t> order;
  const auto& all = sets.importance();
  for (std::size_t e = 0; e < all.size(); ++e) {
    if (all[e].birnbaum > 0 || all[e].fussell_vesely > 0) order.push_back(e);
  }
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return all[a].fussell_vesely > all[b].fussell_vesely; });
  const std::size_t hidden = order.size() > most ? order.size() - most : 0;
  order.resize(order.size() - hidden);
  for (const std::size_t e : order) {
    const trees::Importance& i = all[e];
    table.row({asked.tree.events[e].name, probability_text(asked.tree.events[e].probability),
               fmt::format("{:.4f}", i.fussell_vesely), fmt::format("{:.3g}", i.birnbaum),
               fmt::format("{:.4f}", i.criticality), fmt::format("{:.3g}", i.achievement),
               fmt::format("{:.3g}", i.reduction), asked.bench ? asked.faults[e] : asked.tree.events[e].doc});
  }
  if (table.empty()) return;
  say("");
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  if (hidden > 0) say(fmt::format("… and {}; --most shows them", counted(hidden, "more event")));
}

/// What keeps the hazard away, to whom it is given, and what is missing of that.
void say_requirements(const Asked& asked) {
  const program::Hazard* h = asked.of();
  if (h == nullptr) return;
  const program::Program& p = *asked.bench->program;
  TextTable table({{"Requirement"}, {"Level"}, {"Allocated to"}, {"Meaning"}});
  for (const auto* list : {&h->broken, &h->requirements}) {
    for (const std::int32_t r : *list) {
      const program::Requirement& q = at(p.requirements, r);
      table.row({q.name, q.level.empty() ? "none" : q.level, listed(q.allocated, "nobody"), q.doc});
    }
  }
  if (table.empty()) return;
  say("");
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
}

// --- what runs say ---

std::vector<std::string> cells_of(const ProofFinding& f) {
  return {session::proof_word(f.proof), f.scenario, f.requirement, f.margin,
          f.at_s ? format_number(*f.at_s) + " s" : ""};
}

const char* colour_of(Proof p) {
  return p == Proof::reaches ? "1;31" : p == Proof::does_not ? "32" : "33";
}

void show_proof(const Asked& asked, const session::TreeProof& proof) {
  const program::Program& p = *asked.bench->program;
  TextTable table({{"Cut set"},
                   {"Probability", Align::right},
                   {"Runs say"},
                   {"In"},
                   {"Requirement"},
                   {"Margin", Align::right},
                   {"At", Align::right}});
  const auto row = [&](std::string names, const std::optional<double>& probability, const ProofFinding& f) {
    std::vector<std::string> cells{std::move(names), probability_text(probability)};
    for (std::string& c : cells_of(f)) cells.push_back(std::move(c));
    table.row(std::move(cells), colour_of(f.proof), 2);
  };
  for (const auto& c : proof.cuts) row(names_of(asked.tree, c.set), c.set.probability, c.finding);
  for (const auto& o : proof.outside) row("not in the tree: fault " + faults_text(p, o.faults), {}, o.finding);
  for (const auto& a : proof.anyway) row("without any fault", {}, a);
  put(stdout, table.text(width_of(stdout), colours_on(stdout)));
  for (const auto& c : proof.cuts) {
    if (!c.finding.why.empty()) say_aside(fmt::format("{}: {}", names_of(asked.tree, c.set), c.finding.why));
  }
  for (const auto& o : proof.outside) {
    if (!o.finding.why.empty()) say_aside(fmt::format("{}: {}", faults_text(p, o.faults), o.finding.why));
  }
}

std::string counts_text(const std::map<Proof, std::size_t>& counts) {
  std::string text;
  for (const auto& [kind, n] : counts) {
    const bool several = n > 1;
    list_on(text, fmt::format("{} {}", n,
                              kind == Proof::reaches && several    ? "reach it"
                              : kind == Proof::does_not && several ? "do not reach it"
                                                                   : session::proof_word(kind)));
  }
  return text;
}

void say_counts(const program::Program& p, const session::TreeProof& proof, std::size_t order) {
  std::map<Proof, std::size_t> counts;
  for (const auto& c : proof.cuts) ++counts[c.finding.proof];
  say(fmt::format("{} in {}: {}", counted(proof.cuts.size(), "cut set"), counted(proof.runs, "run"),
                  counts_text(counts)));
  if (proof.beyond > 0)
    say(fmt::format("Not tried: {} with more than {} (--order)", trees::count_text(proof.beyond),
                    counted(order, "event")));
  std::string unanswered;
  constexpr std::size_t kMost = 5;
  for (std::size_t i = 0; i < std::min(kMost, proof.unanswered.size()); ++i)
    list_on(unanswered,
            fmt::format("{}: {}", faults_text(p, proof.unanswered[i].faults), proof.unanswered[i].finding.why), "; ");
  std::size_t outside = 0;
  for (const auto& [kind, n] : proof.outside_counts) outside += n;
  say(fmt::format("Not in the tree: {} of up to {}: {}", counted(outside, "combination"), counted(order, "fault"),
                  counts_text(proof.outside_counts)));
  if (!unanswered.empty())
    say_aside(fmt::format("No answer: {}{}", unanswered, proof.unanswered.size() > kMost ? "; …" : ""));
  const auto proven = std::find_if(proof.cuts.begin(), proof.cuts.end(),
                                   [](const auto& c) { return c.finding.proof == Proof::reaches; });
  const std::string command = !proof.outside.empty()       ? proof.outside[0].finding.command
                              : proven != proof.cuts.end() ? proven->finding.command
                                                           : "";
  if (!command.empty())
    say(fmt::format("{} again, from inside the folder of the bench: {}",
                    !proof.outside.empty() ? "The first that is not in the tree" : "The first that reaches it",
                    command));
}

// --- files ---

std::string as_csv(const Asked& asked, const trees::CutSets& sets, const session::TreeProof* proof, std::size_t most) {
  std::string text =
      csv_line(proof != nullptr ? std::vector<std::string>{"cut set", "events", "probability", "runs say", "scenario",
                                                           "requirement", "margin", "at", "remark", "run again"}
                                : std::vector<std::string>{"cut set", "events", "probability"});
  const auto exact = [](const std::optional<double>& p) { return p ? format_exact(*p) : ""; };
  const auto line = [&](const std::string& names, std::size_t n, const std::optional<double>& p,
                        const ProofFinding& f) {
    std::vector<std::string> cells{names, std::to_string(n), exact(p)};
    for (std::string& c : cells_of(f)) cells.push_back(std::move(c));
    cells.insert(cells.end(), {f.why, f.command});
    text += csv_line(cells);
  };
  if (proof == nullptr) {
    for (const trees::CutSet& c : sets.first(most))
      text += csv_line({names_of(asked.tree, c), std::to_string(c.events.size()), exact(c.probability)});
    return text;
  }
  const program::Program& p = *asked.bench->program;
  for (const auto& c : proof->cuts)
    line(names_of(asked.tree, c.set), c.set.events.size(), c.set.probability, c.finding);
  for (const auto& o : proof->outside)
    line("not in the tree: fault " + faults_text(p, o.faults), o.faults.size(), {}, o.finding);
  for (const auto& o : proof->unanswered)
    line("not in the tree: fault " + faults_text(p, o.faults), o.faults.size(), {}, o.finding);
  for (const auto& a : proof->anyway) line("without any fault", 0, {}, a);
  return text;
}

bool is_kind(const std::string& out) {
  const std::string kind = fs::path(out).extension().string();
  if (kind == ".svg" || kind == ".xml" || kind == ".dyne" || kind == ".csv") return true;
  return say_error(fmt::format("--out {}: what is written is known by its ending: .svg, .xml, .dyne or .csv", out)),
         false;
}

bool write_out(const Asked& asked, const trees::CutSets& sets, const session::TreeProof* proof, std::size_t most,
               const std::string& out) {
  const std::string kind = fs::path(out).extension().string();
  const program::Program* p = asked.bench ? asked.bench->program.get() : nullptr;
  const Status written = kind == ".dyne"
                             ? write_new_file(out, exchange::tree_text(asked.tree, asked.faults, asked.from))
                         : kind == ".xml" ? write_file(out, exchange::to_open_psa(asked.tree, asked.faults))
                         : kind == ".svg" ? write_file(out, present::tree_svg({&asked.tree, &sets, proof, p}))
                                          : write_file(out, as_csv(asked, sets, proof, most));
  if (!written) return say_error(written.failure().text()), false;
  return say_aside("Written to " + out), true;
}

std::optional<session::TreeProof> proven(const Arguments& arguments, const Asked& asked, const trees::CutSets& sets,
                                         std::size_t order) {
  session::ProofWish wish;
  wish.bench = asked.bench, wish.hazard = asked.hazard, wish.order = order;
  wish.each_alone = arguments.has(Option::each_alone);
  if (!read_seed(arguments, wish.seed) || !read_setting(arguments, *asked.bench->program, wish.setting) ||
      !read_answer_within(arguments, wish.answer_within) || !read_whole(arguments, Option::jobs, 64, wish.jobs))
    return std::nullopt;
  note_interruptions();
  ProgressLine progress;
  auto proof = session::prove(wish, asked.tree, sets, [&](const session::ProofNews& n) {
    if (progress.due() && n.all > 0)
      progress.draw(static_cast<double>(n.done) / static_cast<double>(n.all),
                    fmt::format("{} of {} runs with {}", n.done, n.all, counted(n.order, "fault")));
    return !interrupted();
  });
  progress.clear();
  if (!proof) return say_error(proof.failure().text()), std::nullopt;
  if (!proof->alone.empty()) say_aside("No beginnings were shared: " + proof->alone);
  return std::move(*proof);
}

int status_of(const session::TreeProof& proof) {
  const bool open = proof.stopped || !proof.unanswered.empty() ||
                    std::any_of(proof.cuts.begin(), proof.cuts.end(),
                                [](const auto& c) { return c.finding.proof == Proof::no_answer; });
  if (open) return kNotCompleted;
  return proof.outside.empty() && proof.anyway.empty() ? kHeld : kBroken;
}

/// What needs runs, without them; false after saying so.
bool fits_together(const Arguments& arguments) {
  if (arguments.has(Option::prove)) return true;
  for (const Option option :
       {Option::order, Option::seed, Option::setting, Option::jobs, Option::each_alone, Option::answer_within}) {
    if (arguments.has(option)) return say_error(fmt::format("{} is about --prove", spelled(option))), false;
  }
  return true;
}

}  // namespace

int run_tree(const Arguments& arguments) {
  if (!fits_together(arguments)) return kWrongInput;
  const std::string out = arguments.value(Option::out).value_or("");
  if (!out.empty() && !is_kind(out)) return kWrongInput;
  // A table for other programs has all of them, as far as it can.
  const bool for_others = arguments.has(Option::csv) || fs::path(out).extension() == ".csv";
  std::size_t most = for_others ? kMostListed : 30, order = 2;
  if (!read_whole(arguments, Option::most, kMostListed, most) || !read_whole(arguments, Option::order, 4, order))
    return kWrongInput;
  Asked asked;
  asked.from = fs::path(arguments.words[0]).filename().string();
  int status = kWrongInput;
  if (lower_case(fs::path(arguments.words[0]).extension().string()) == ".xml") {
    const auto text = read_file(arguments.words[0]);
    if (!text) return say_error(text.failure().text()), kWrongInput;
    if (!take_file(arguments, *text, asked)) return kWrongInput;
  } else if (!take_hazard(arguments, asked, status)) {
    return status;
  }
  const auto sets = trees::CutSets::of(asked.tree);
  if (!sets) return say_error(sets.failure().text()), kNotCompleted;
  std::optional<session::TreeProof> proof;
  if (arguments.has(Option::prove)) {
    proof = proven(arguments, asked, *sets, order);
    if (!proof) return kWrongInput;
  }
  if (arguments.has(Option::csv)) {
    put(stdout, as_csv(asked, *sets, proof ? &*proof : nullptr, most));
  } else {
    say_heading(asked);
    proof ? show_proof(asked, *proof) : show_cut_sets(asked, *sets, most);
    if (proof) say_counts(*asked.bench->program, *proof, order);
    say_sums(asked, *sets);
    if (!proof) show_importance(asked, *sets, most);
    if (!proof) say_requirements(asked);
  }
  if (for_others && !proof && sets->count() > static_cast<double>(most))
    say_aside(fmt::format("The table has the first {} of {} cut sets", most, trees::count_text(sets->count())));
  if (proof && proof->stopped) say_aside("Not all were run.");
  if (!out.empty() && !(proof && proof->stopped) && !write_out(asked, *sets, proof ? &*proof : nullptr, most, out))
    return kNotCompleted;
  return proof ? status_of(*proof) : kHeld;
}

}  // namespace isodyne::app
