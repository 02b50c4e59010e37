#pragma once
// How a command speaks with a run that goes on.

#include <memory>
#include <optional>
#include <string>

#include "isodyne/remote/clients.h"
#include "isodyne/remote/rpc.h"
#include "subcommand.h"

namespace isodyne::app {

/// A controller may take its time; a run in lockstep answers within a step.
constexpr std::chrono::milliseconds kPatience = std::chrono::seconds(30);
/// What a run may need to come to something.
constexpr std::chrono::milliseconds kAnyTime = std::chrono::hours(24 * 365);

struct Talk {
  std::unique_ptr<remote::Connection> with;

  /// Its answer; nothing, and said, where there is none.
  std::optional<remote::Json> ask(const std::string& method, remote::Json params,
                                  std::chrono::milliseconds patience = kPatience);
  /// The next notification; nothing when the run is over.
  std::optional<remote::Json> told();
};

/// "ada@bench:runs/001": another machine, and the run there; nothing of one that is here.
std::optional<std::pair<std::string, std::string>> elsewhere(const std::string& run);
/// The run of a folder here; or through ssh, for which the variables ISODYNE_SSH ("ssh -p 2022") and ISODYNE_FAR (the
/// program at the other end) may say more.
Result<std::unique_ptr<remote::Connection>> connection_to(const std::string& run);
/// Nothing, and said, where nobody answers there.
std::optional<Talk> talk(const std::string& run);

/// What it says of an answer that is an error; nothing: it is none.
std::optional<int> said_error(const remote::Json& answer);

/// "1.25 s", of `at_s`.
std::string instant_of(const remote::Json& result);

}  // namespace isodyne::app
