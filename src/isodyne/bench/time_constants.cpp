#include "isodyne/bench/time_constants.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <Eigen/Eigenvalues>

#include "isodyne/program/groups.h"

namespace isodyne::bench {

Paces::Paces(const program::Plant& program) : program_(std::make_shared<program::Plant>(program)) {
  // One group of everything, linearised: what the parts do to themselves is on its diagonal blocks.
  auto whole = std::make_shared<program::Plant>(program);
  program::Group all;
  all.step = whole->step;
  for (std::size_t i = 0; i < whole->states.size(); ++i) all.states.push_back(static_cast<std::int32_t>(i));
  whole->groups = {all};
  for (program::Variable& v : whole->variables) v.group = 0;
  for (program::PeriodicTask& s : whole->periodic_tasks) s.group = 0;
  for (program::WhenBlock& w : whole->events) w.group = 0;
  for (program::Network& n : whole->networks) n.group = 0;
  for (program::Gate& g : whole->gates) g.group = 0;
  for (program::QuickWatch& w : whole->quick_watches) w.group = 0;
  program::linearise(*whole, whole->groups.front());
  program_ = whole;
  plan_ = std::make_unique<engine::Plan>(*program_);
  interpreter_ = std::make_unique<engine::Interpreter>(program_, *plan_);
  const std::size_t n = program_->states.size();
  jacobian_.resize(n * n);
  df_dt_.resize(n);
  std::map<std::string, std::vector<std::size_t>> parts;
  for (std::size_t i = 0; i < n; ++i) {
    const std::string& name = program_->variable(program_->states[i].value).name;
    const std::size_t dot = name.rfind('.');
    parts[dot == std::string::npos ? "" : name.substr(0, dot)].push_back(i);
  }
  for (auto& [name, states] : parts) {
    PartPace pace;
    pace.part = name.empty() ? "the bench itself" : name;
    found.push_back(pace);
    states_.push_back(std::move(states));
  }
  state_ = interpreter_->start({});
}

void Paces::look(const observe::Image& image) {
  const std::size_t n = program_->states.size();
  if (n == 0 || n > 500) return;
  std::copy(image.variables, image.variables + program_->variables.size(), state_.values.begin());
  state_.now = image.at;
  interpreter_->slopes_of(0, state_, jacobian_.data(), df_dt_.data());
  for (std::size_t k = 0; k < found.size(); ++k) part(k, image.at);
}

void Paces::part(std::size_t k, Time at) {
  const std::vector<std::size_t>& states = states_[k];
  const std::size_t n = program_->states.size();
  const auto m = static_cast<Eigen::Index>(states.size());
  Eigen::MatrixXd a(m, m);
  for (Eigen::Index r = 0; r < m; ++r) {
    for (Eigen::Index c = 0; c < m; ++c)
      a(r, c) = jacobian_[states[static_cast<std::size_t>(r)] * n + states[static_cast<std::size_t>(c)]];
  }
  if (!a.allFinite()) return;
  const Eigen::VectorXcd values = Eigen::EigenSolver<Eigen::MatrixXd>(a, false).eigenvalues();
  PartPace& pace = found[k];
  for (const std::complex<double>& value : values) {
    if (std::abs(value) < 1e-12) continue;
    const double constant = 1 / std::abs(value);
    if (pace.shortest == 0 || constant < pace.shortest) {
      pace.shortest = constant;
      pace.at = at;
      pace.oscillates = std::abs(value.imag()) > std::abs(value.real());
    }
    pace.longest = std::max(pace.longest, constant);
  }
}

std::optional<PartPace> quickest_part(const program::Plant& program, const observe::Image& image) {
  Paces paces(program);
  paces.look(image);
  std::optional<PartPace> quickest;
  for (const PartPace& p : paces.found) {
    if (p.shortest > 0 && (!quickest || p.shortest < quickest->shortest)) quickest = p;
  }
  return quickest;
}

}  // namespace isodyne::bench
