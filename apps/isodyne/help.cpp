// What commands say of themselves.

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "isodyne/core/text.h"
#include "subcommand.h"
#include "terminal.h"

namespace isodyne::app {

namespace {
/// Commands of two words that begin with this one, a line each; empty: there is none.
std::string lines_behind(const std::string& group) {
  std::string list;
  std::size_t width = 0;
  std::vector<const Subcommand*> own;
  for (const Subcommand& c : commands()) {
    if (std::string_view(c.name).starts_with(group + " ")) own.push_back(&c);
  }
  for (const Subcommand* c : own) width = std::max(width, std::string_view(c->name).size());
  for (const Subcommand* c : own) list += fmt::format("  {:<{}}  {}\n", c->name, width, c->summary);
  return list;
}

}  // namespace

bool is_group(const std::string& word) {
  return !lines_behind(word).empty() &&
         std::none_of(commands().begin(), commands().end(), [&](const Subcommand& c) { return c.name == word; });
}

std::string group_help(const std::string& group) {
  const std::string list = lines_behind(group);
  const Subcommand& first = *std::find_if(commands().begin(), commands().end(), [&](const Subcommand& c) {
    return std::string_view(c.name).starts_with(group + " ");
  });
  return fmt::format(
      "isodyne {0} - commands of two words\n\nUsage: isodyne {0} COMMAND … [options]\n\nCommands:\n{1}\n"
      "Each explains itself: `isodyne help {2}`.\n\nExample:\n  {3}\n",
      group, list, first.name, first.example);
}

std::string help_text(const Subcommand& c) {
  std::string text = fmt::format("isodyne {} - {}\n\nUsage: isodyne {}{}{} [options]\n", c.name, c.summary, c.name,
                                 *c.words != 0 ? " " : "", c.words);
  if (*c.explanation != '\0') text += fmt::format("\n{}\n", c.explanation);
  text += "\nOptions:\n";
  std::size_t width = 0;
  for (const Option o : c.options) width = std::max(width, display_width(spelled(o)));
  for (const Option o : c.options) {
    const std::string option = spelled(o);
    text += fmt::format("  {}{}  {}\n", option, std::string(width - display_width(option), ' '), help_of(o));
  }
  const std::string family = lines_behind(c.name);
  if (!family.empty()) text += "\nSee also:\n" + family;
  return text + fmt::format("\nExample:\n  {}\n", c.example);
}

std::string help_text() {
  std::string text =
      "isodyne - run a simulated plant against its controller, and judge what happens\n\nUsage: isodyne COMMAND … "
      "[options]\n\nCommands:\n";
  std::size_t width = 0;
  for (const Subcommand& c : commands()) width = std::max(width, std::string_view(c.name).size());
  // Many, of which few are for any one moment.
  const std::map<std::string_view, const char*> headings{{"attach", "Of a run that goes on, and was begun with --open"},
                                                         {"scenario", "Of what was done by hand"},
                                                         {"realtime-check", "Steps and real time"},
                                                         {"report", "Of runs that are over"},
                                                         {"faults", "Of a bench"}};
  for (const Subcommand& c : commands()) {
    if (const auto heading = headings.find(c.name); heading != headings.end())
      text += fmt::format("\n{}:\n", heading->second);
    text += fmt::format("  {:<{}}  {}\n", c.name, width, c.summary);
  }
  text +=
      "\nExit status: 0 all requirements hold; 1 at least one does not; 2 the bench or the command line is wrong;\n"
      "3 the run could not be completed, or a controller was lost; 4 real time was not kept although asked "
      "for.\n\nExample:\n  isodyne run examples/canal-lock/lock.dyne uplock\n  isodyne "
      "help run\n";
  return text;
}

int run_help(const Arguments& arguments) {
  if (arguments.words.empty()) {
    put(stdout, help_text());
    return kHeld;
  }
  if (arguments.words.size() == 1 && is_group(arguments.words[0])) {
    put(stdout, group_help(arguments.words[0]));
    return kHeld;
  }
  std::size_t taken = 0;
  const Subcommand* command = find_command(arguments.words, taken);
  if (command == nullptr) return kWrongInput;
  put(stdout, help_text(*command));
  return kHeld;
}

}  // namespace isodyne::app
