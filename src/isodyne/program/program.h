#pragma once
// The checked, flattened, sorted bench: everything a run needs, resolved to indices.
//
// A Program never changes once it is made and may be shared by threads. Every quantity is a variable in one flat list;
// its index is also its place in the state's array of values (see numbering.h). Truth values are 1 and 0, a choice is
// the index of its label. It is made of parts, and whoever needs only one of them takes that.

#include <string>

#include "isodyne/program/assurance.h"
#include "isodyne/program/campaign.h"
#include "isodyne/program/io.h"
#include "isodyne/program/judged.h"
#include "isodyne/program/plant.h"
#include "isodyne/program/stimulus.h"
#include "isodyne/program/view.h"

namespace isodyne::program {

struct Program : Plant, Io, Stimulus, Judged, View, Assurance {
  std::string doc;
  std::vector<Campaign> campaigns;
};

// The channels of a bench are numbered through: sensors, then actuators, then the fields of all frames.
std::int32_t channel_of_actuator(const Plant& plant, std::size_t actuator);
std::int32_t channel_of_field(const Program& program, std::size_t frame, std::size_t field);
/// What such a channel gives; kTime if there is none of this number.
VarId value_of_channel(const Program& program, std::int32_t channel);

/// The fault of which this is a setting; kNone: it is none.
std::int32_t fault_of_setting(const Program& program, VarId id);

/// What a fault is on, as people name it: "chamber_level", "plc.reads", "radio".
std::string place_of(const Program& program, const Fault& fault);

}  // namespace isodyne::program
