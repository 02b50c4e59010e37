#include "subcommand.h"

#include <charconv>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <cxxopts.hpp>

#include "isodyne/core/file.h"
#include "isodyne/core/text.h"
#include "isodyne/core/units.h"
#include "isodyne/record/run_text.h"
#include "isodyne/session/summary.h"
#include "library_path.h"
#include "terminal.h"

namespace isodyne::app {

namespace {

struct OptionEntry {
  Option id;
  const char* name;
  const char* value;
  const char* help;
};

constexpr OptionEntry kOptions[] = {
#define OPTION(id, name, value, help) {Option::id, name, value, help},
#include "options.def"
#undef OPTION
};

const OptionEntry& entry(Option option) {
  return kOptions[static_cast<std::size_t>(option)];
}

/// Before a word that begins as an option would, and is none.
constexpr char kWordMark = '\x1f';

/// "--seed -1": the value of an option, not an option. "set RUN warm '-5 degC'": neither.
std::vector<std::string> with_negative_values(const Subcommand& command, const std::vector<std::string>& words) {
  const auto takes_value = [&](const std::string& word) {
    return std::any_of(command.options.begin(), command.options.end(),
                       [&](Option o) { return *entry(o).value != '\0' && word == std::string("--") + entry(o).name; });
  };
  std::vector<std::string> all;
  for (const std::string& word : words) {
    const bool negative =
        word.size() > 1 && word[0] == '-' && (std::isdigit(static_cast<unsigned char>(word[1])) != 0 || word[1] == '.');
    if (negative && !all.empty() && takes_value(all.back()))
      all.back() += "=" + word;
    else
      all.push_back(negative ? kWordMark + word : word);
  }
  return all;
}

/// An option nobody knows, before cxxopts says so in other words.
std::optional<std::string> unknown_option(const Subcommand& command, const std::vector<std::string>& words) {
  std::vector<std::string> known;
  for (const Option o : command.options) known.push_back(std::string("--") + entry(o).name);
  for (const std::string& word : words) {
    if (word == "--") return std::nullopt;
    if (word.size() < 2 || word[0] != '-') continue;
    const std::string name = word.substr(0, word.find('='));
    if (std::find(known.begin(), known.end(), name) != known.end()) continue;
    const auto meant = did_you_mean(name, known);
    return fmt::format("`isodyne {}` has no option `{}`{}", command.name, name, meant ? "; " + *meant : "");
  }
  return std::nullopt;
}

}  // namespace

std::string spelled(Option option) {
  const OptionEntry& e = entry(option);
  return fmt::format("--{}{}{}", e.name, *e.value != '\0' ? " " : "", e.value);
}

const char* help_of(Option option) {
  return entry(option).help;
}

std::optional<std::string> Arguments::value(Option option) const {
  const auto found = options.find(option);
  return found == options.end() ? std::nullopt : std::optional(found->second.back());
}

std::vector<std::string> Arguments::values(Option option) const {
  const auto found = options.find(option);
  return found == options.end() ? std::vector<std::string>{} : found->second;
}

const Subcommand* find_command(const std::vector<std::string>& words, std::size_t& taken) {
  const std::string pair = words.size() > 1 ? words[0] + " " + words[1] : words[0];
  std::vector<std::string> names, family;
  std::string all;
  for (const std::size_t both : {2, 1}) {  // `runs tag` before `runs`
    taken = both;
    for (const Subcommand& c : commands()) {
      if (words.size() >= both && c.name == (both == 2 ? pair : words[0])) return &c;
    }
  }
  for (const Subcommand& c : commands()) {
    const std::string name = c.name;
    names.push_back(name);
    if (!name.starts_with(words[0] + " ")) continue;
    family.push_back(name.substr(words[0].size() + 1));
    list_on(all, family.back());
  }
  if (!family.empty()) {  // the first of two words
    const auto meant = words.size() > 1 ? closest(words[1], family) : std::nullopt;
    say_error(words.size() < 2 || words[1].starts_with("-")
                  ? fmt::format("`isodyne {0}` needs a second word: {1}; see `isodyne help {0}`", words[0], all)
                  : fmt::format("there is no command `{}`; {}", pair,
                                meant ? fmt::format("did you mean `{} {}`?", words[0], *meant)
                                      : fmt::format("behind `{}` stands one of {}", words[0], all)));
    return nullptr;
  }
  auto meant = closest(words[0], names);
  for (const std::string& name : names) {  // the second of two words
    if (name.ends_with(" " + words[0])) meant = name;
  }
  say_error(fmt::format("there is no command `{}`; {}", words[0],
                        meant ? fmt::format("did you mean `{}`?", *meant) : "see `isodyne help`"));
  return nullptr;
}

std::optional<Arguments> read_arguments(const Subcommand& command, const std::vector<std::string>& given) {
  auto arguments = parse_arguments(command, given);
  if (arguments) return std::move(*arguments);
  say_error(arguments.failure().text());
  return std::nullopt;
}

Result<Arguments> parse_arguments(const Subcommand& command, const std::vector<std::string>& given) {
  const std::vector<std::string> words = with_negative_values(command, given);
  if (const auto unknown = unknown_option(command, words)) return Failure{*unknown, "", ""};
  cxxopts::Options parser(command.name);
  for (const Option o : command.options) {
    const OptionEntry& e = entry(o);
    if (*e.value == '\0') {
      parser.add_options()(e.name, e.help);
    } else {
      // Not a list type: that one would cut values at commas.
      parser.add_options()(e.name, e.help, cxxopts::value<std::string>());
    }
  }
  std::vector<const char*> argv{command.name};
  for (const std::string& w : words) argv.push_back(w.c_str());
  Arguments arguments;
  arguments.command = &command;
  try {
    const cxxopts::ParseResult parsed = parser.parse(static_cast<int>(argv.size()), argv.data());
    for (const auto& argument : parsed.arguments()) {
      for (const Option o : command.options) {
        if (argument.key() == entry(o).name) arguments.options[o].push_back(argument.value());
      }
    }
    arguments.words = parsed.unmatched();
    for (std::string& word : arguments.words) {
      if (word.starts_with(kWordMark)) word.erase(0, 1);
    }
  } catch (const cxxopts::exceptions::exception& e) {
    return Failure{fmt::format("{}; see `isodyne help {}`", e.what(), command.name), "", ""};
  }
  if (arguments.has(Option::help)) return arguments;
  if (arguments.words.size() < command.least || arguments.words.size() > command.most) {
    return Failure{
        fmt::format("usage: isodyne {} {} [options]; for example `{}`", command.name, command.words, command.example),
        "", ""};
  }
  if (arguments.value(Option::out) == "-") {
    return Failure{"--out takes a name, not `-`: what one file holds goes to standard output where --out is left out",
                   "", ""};
  }
  return arguments;
}

std::string folder_of(const std::string& file) {
  const std::string folder = std::filesystem::path(file).parent_path().string();
  return folder.empty() || folder == "/" ? folder : folder + "/";
}

check::Loaded load_file(const std::string& file, const check::Wish& wish) {
  return load_changed(file, {}, wish);
}

check::Loaded load_changed(const std::string& file, const std::map<std::string, std::string>& changed,
                           const check::Wish& wish) {
  const std::string folder = folder_of(file);
  const auto reader = [&](const std::string& relative) {
    if (const auto text = changed.find(relative); text != changed.end()) return Result<std::string>(text->second);
    if (relative.starts_with(check::kLibraryMark))
      return read_library_file(relative.substr(check::kLibraryMark.size()));
    const std::string path = (std::filesystem::path(folder) / relative).string();
    if (auto text = record::text_from_run(path)) return *text;
    return read_file(path);
  };
  return check::load_bench(folder, std::filesystem::path(file).filename().string(), reader, wish);
}

void print_diagnostics(const check::Loaded& loaded, const std::string& file) {
  if (loaded.diagnostics.list().empty()) return;
  put(stderr, loaded.diagnostics.render(*loaded.sources, colours_on(stderr)));
  if (loaded.diagnostics.has_errors())
    say_error(fmt::format("{} in {}{}", counted(loaded.diagnostics.errors(), "mistake"), file,
                          loaded.only_read ? "; what the rest means is checked once all of it can be read" : ""));
}

}  // namespace isodyne::app
