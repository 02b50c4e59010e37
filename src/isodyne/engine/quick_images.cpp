#include "isodyne/engine/quick_images.h"

#include <algorithm>

namespace isodyne::engine {

QuickImages::QuickImages(const program::Plant& p, program::QuickView view)
    : view_(std::move(view)), variables_(p.variables.size()), values_(view_.any() ? variables_ : 0) {
  if (!view_.any()) return;
  std::vector<program::NodeId> nodes;
  for (const std::size_t i : view_.edges) {
    previous_.push_back(p.edges[i].previous);
    nodes.push_back(p.edges[i].now);
  }
  next_previous_.resize(previous_.size());
  if (!nodes.empty()) edges_.emplace(p, nodes);
}

std::vector<std::int32_t> QuickImages::places_of(const std::vector<program::VarId>& ids) const {
  std::vector<std::int32_t> places;
  for (const program::VarId id : ids) {
    const auto found = std::lower_bound(view_.columns.begin(), view_.columns.end(), id);
    const bool there = found != view_.columns.end() && *found == id;
    places.push_back(there ? static_cast<std::int32_t>(found - view_.columns.begin()) : program::kNone);
  }
  return places;
}

const double* QuickImages::image(const double* variables) {
  if (!view_.any()) return variables;
  std::copy_n(variables, variables_, values_.begin());
  return shown();
}

const double* QuickImages::row(double seconds, const double* values) {
  values_[program::kTime] = seconds;
  for (std::size_t c = 0; c < view_.columns.size(); ++c)
    values_[static_cast<std::size_t>(view_.columns[c])] = values[c];
  return shown();
}

/// What edges remember is of the row before, not of the instant of the bench before.
const double* QuickImages::shown() {
  for (std::size_t i = 0; i < previous_.size() && begun_; ++i)
    values_[static_cast<std::size_t>(previous_[i])] = next_previous_[i];
  begun_ = true;
  if (!edges_) return values_.data();
  edges_->evaluate(values_.data());
  for (std::size_t i = 0; i < previous_.size(); ++i) next_previous_[i] = edges_->value(i);
  return values_.data();
}

}  // namespace isodyne::engine
