#pragma once
// Which tag of a controller is which channel: proposals by the parts of their names, unit, direction and type.

#include <string>
#include <vector>

#include "isodyne/io/tags.h"

namespace isodyne::io {

/// A channel as a tag sees it.
struct MatchChannel {
  std::string name, doc;
  bool into_controller = true;
  program::Type type;
  Unit unit;
  program::Word word;       ///< of its counts; lowest == highest: it has none
  std::string choice_size;  ///< of a choice: "3 labels"
};

/// What a controller exchanges, in the order of its reads and writes, frames opened.
std::vector<MatchChannel> channels_of(const program::Program& program, const program::Controller& controller);

struct Match {
  int tag = -1;                       ///< index, or -1: none is like it
  double score = 0;                   ///< from 0 to 1
  bool confirmed = false;             ///< by a person, in the table
  double next = 0;                    ///< score of the next best tag: close to `score` means unsure
  std::vector<std::string> troubles;  ///< wrong type, unit, direction
};

/// Below this a likeness is chance.
constexpr double kLeastScore = 0.45;

/// One match per channel; a tag is proposed for one channel at most. `fixed` has the tag of channels that people have
/// confirmed, or -1.
std::vector<Match> match(const std::vector<MatchChannel>& channels, const std::vector<Tag>& tags,
                         const std::vector<int>& fixed);

/// What is wrong between a channel and its tag.
std::vector<std::string> troubles_between(const MatchChannel& channel, const Tag& tag);

/// "upperGate_open-2" → upper, gate, open, 2
std::vector<std::string> name_parts(const std::string& name);

// ---- the table of what was decided

struct MapRow {
  std::string channel, tag, address, type, unit;
  double score = 0;
  bool confirmed = false;
};

/// "channel,tag,address,type,unit,score,state": channels first, then tags without a channel.
std::string map_text(const std::vector<MatchChannel>& channels, const std::vector<Tag>& tags,
                     const std::vector<Match>& matches);
Result<std::vector<MapRow>> read_map(const std::string& text, const std::string& file);

/// What is another than in an earlier table, a line each: tags that came, went or changed; channels that came or went.
std::vector<std::string> differences(const std::vector<MapRow>& before, const std::vector<MatchChannel>& channels,
                                     const std::vector<Tag>& tags);

}  // namespace isodyne::io
