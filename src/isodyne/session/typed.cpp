#include "isodyne/session/typed.h"

#include <algorithm>
#include <map>

#include <fmt/format.h>

namespace isodyne::session {

namespace {
constexpr const char* kCondition = "typed_here";
}  // namespace

check::Loaded loaded_with(const Bench& bench, const std::string& text, const std::string& name) {
  check::Wish wish;
  wish.harness = bench.harness;
  wish.live = bench.program->live;
  wish.rules = check::Rules{name, text, false};
  const auto reader = [&](const std::string& relative) -> Result<std::string> {
    for (const auto& [source, of_bench] : bench.sources) {
      if (source == relative) return of_bench;
    }
    return Failure{"the bench has no source called", relative, ""};
  };
  return check::load_bench(bench.folder, bench.sources.front().first, reader, wish);
}

std::vector<std::pair<program::VarId, program::VarId>> matched(const program::Program& there,
                                                               const program::Program& here) {
  std::map<std::string, program::VarId> known;
  for (std::size_t i = 0; i < here.variables.size(); ++i)
    known[here.variables[i].name] = static_cast<program::VarId>(i);
  std::vector<std::pair<program::VarId, program::VarId>> same;
  for (std::size_t i = 0; i < there.variables.size(); ++i) {
    const auto found = known.find(there.variables[i].name);
    if (found != known.end() && !found->first.empty()) same.emplace_back(static_cast<program::VarId>(i), found->second);
  }
  return same;
}

Probe::Probe(const Bench& bench, const std::string& condition)
    : loaded_(loaded_with(bench, fmt::format("condition {} = {}\n", kCondition, condition))) {
  if (loaded_.program == nullptr) return;
  const program::Program& own = *loaded_.program;
  const program::VarId id = own.find(kCondition);
  const auto equation = std::find_if(own.equations.begin(), own.equations.end(),
                                     [&](const program::Assignment& e) { return e.target == id; });
  if (equation == own.equations.end()) return;
  same_ = matched(own, *bench.program);
  for (const program::VarId read : own.reads(equation->value)) {
    const auto here = std::find_if(same_.begin(), same_.end(), [&](const auto& both) { return both.first == read; });
    // Delays are numbered: one of the same name may be another one.
    const bool delayed =
        std::any_of(own.delays.begin(), own.delays.end(), [&](const program::Delay& d) { return d.out == read; });
    if (here == same_.end() || delayed) {
      memory_ = own.variable(read).name;
      return;
    }
    reads_.push_back(here->second);
  }
  value_ = std::make_unique<engine::Evaluator>(own, std::vector<program::NodeId>{equation->value});
  image_.resize(own.variables.size());
}

std::string Probe::why_not() const {
  if (!memory_.empty())
    return "it has to remember something from one instant to the next (`delay`, `becomes active`), and what is typed "
           "remembers nothing: give it a name in the bench (`condition NAME = …`)";
  const auto& list = loaded_.diagnostics.list();
  return list.empty() ? "it is none" : list.front().message;
}

bool Probe::truth(const double* image) {
  for (const auto& [there, here] : same_) image_[static_cast<std::size_t>(there)] = image[here];
  value_->evaluate(image_.data());
  return value_->value(0) != 0;
}

}  // namespace isodyne::session
