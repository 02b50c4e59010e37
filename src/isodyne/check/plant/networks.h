#pragma once
// Networks: what hangs together through terminals, and whether it can be solved at all.

#include "isodyne/check/plant/scope.h"

namespace isodyne::check {

/// Elements declare what a solver brings, and nothing else.
void check_elements(Check& check);

/// Whether a model has terminals, also in variants: then it is nothing alone.
bool has_terminals(const lang::Members& members);

/// What is to be read at nodes and terminals is stepped with the network that gives it. Before anybody reads it.
void step_places(Check& check);

/// Elements and the places at which they lie become Program::networks; reports what lies nowhere, what nothing ties to
/// ground, and sources that contradict each other. Groups have their steps by then.
void define_networks(Check& check);

}  // namespace isodyne::check
