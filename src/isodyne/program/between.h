#pragma once
// What goes on between two instants of the bench, in groups with shorter steps than its own.

#include <span>
#include <vector>

#include "isodyne/program/plant.h"

namespace isodyne::program {

/// Per variable, whether it may change between two instants of the bench. What is not known to be held may.
std::vector<bool> moving_between(const Plant& program);

/// An input of a network that goes smoothly between two instants of the bench: there it is what it was to come to,
/// which is another input. Both by their places among the inputs.
struct Glide {
  std::int32_t input = 0, end = 0;
};
/// Per network. Of inputs whose value follows from the time, from what is held, and from states that go up evenly.
std::vector<std::vector<Glide>> gliding_between(const Plant& program);

/// Per variable, whether it is needed between two instants of the bench for inputs that glide there, and for nothing
/// else: it may stay what it was unless somebody looks at it. Empty: of none.
std::vector<bool> idle_between(const Plant& program);

/// Per variable, whether anything comes of its value between two instants of the bench: a state, an event, a sample, an
/// input of a network, but for its gates, whose edges have instants, and for inputs that glide; or `also`, which
/// somebody looks at there.
std::vector<bool> needed_between(const Plant& program, std::span<const VarId> also);

/// Per variable, what it is a plain copy of, over as many of them as there are; itself: it is none. Nothing that a
/// fault may change is one, and what it copies changes at its own instants.
std::vector<VarId> copied_by(const Plant& program);

}  // namespace isodyne::program
