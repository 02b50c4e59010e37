#include "run_progress.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "isodyne/session/timing.h"
#include "text_table.h"
#include "verdicts.h"

namespace isodyne::app {

RunProgress::RunProgress(const session::RunRequest& request)
    : longest_(request.plan.longest), paced_(request.plan.pace.has_value()) {
  const program::Program& p = *request.bench->program;
  const std::int32_t scenario = request.plan.scenario;
  title_ = scenario == program::kNone ? p.name : program::at(p.scenarios, scenario).name;
}

double RunProgress::passed() const {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin_).count();
}

void RunProgress::image(const observe::Image& image) {
  if (++images_ % (paced_ ? 16 : 512) == 0 && line_.due()) draw(image.at);
}

void RunProgress::waits(const std::string& for_whom) {
  if (line_.due()) line_.draw(-1, fmt::format("{}  waiting for {:.0f} s, {}", title_, passed(), for_whom));
}

/// How long a scenario takes depends on what its waits wait for; only --for tells the time that is left.
void RunProgress::draw(Time now) {
  const double wall = passed(), simulated = to_seconds(now);
  std::string text = fmt::format("{}  {}, {:.0f}x real time", title_, format_seconds(simulated, 0), simulated / wall);
  const std::size_t at = run_->action(), of = run_->actions();
  double share = of == 0 ? -1 : static_cast<double>(at) / static_cast<double>(of);
  if (longest_) {
    share = std::max(share, simulated / to_seconds(*longest_));
    text +=
        fmt::format(", {} left", format_seconds(std::ceil(wall * (to_seconds(*longest_) - simulated) / simulated), 0));
  }
  if (of > 0) text += fmt::format(", action {}/{}", std::min(at + 1, of), of);
  if (paced_) {
    const bench::Timing timing = run_->timing();
    text += fmt::format(", {} of {} steps late\n", timing.overruns, timing.steps);
    text += times_table(session::times_of(timing)).text(width_of(stderr), false);
    for (const bench::ControllerReport* r : run_->reports()) text += session::controller_of(*r).text() + "\n";
  }
  line_.draw(std::min(share, 1.0), text);
}

}  // namespace isodyne::app
