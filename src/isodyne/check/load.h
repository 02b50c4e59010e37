#pragma once
// From files to a Program: the one way in for every command.

#include <functional>
#include <memory>
#include <optional>
#include <string>

#include "isodyne/core/diagnostics.h"
#include "isodyne/core/result.h"
#include "isodyne/program/program.h"
#include "isodyne/program/rated_case.h"

namespace isodyne::check {

/// Gives the text of a file, named relative to the main file's folder ("plant.dyne"), or of a library
/// ("library:tank.dyne").
using Reader = std::function<Result<std::string>(const std::string& relative)>;

/// What a model, or a kind of module, offers, as it is written.
struct ModelInfo {
  struct Item {
    std::string kind, name, type, value, limits, doc;  ///< kind: "parameter", "input", "output", "unit" …
  };
  std::string name, doc;
  Span span;
  std::vector<Item> items;         ///< public ones, in the order of the text
  std::vector<std::string> rated;  ///< sources of its rated values
  bool module = false;             ///< items: kind "inputs" or "outputs", their number, and their form as type
};

/// A harness of the bench, as it is declared.
struct HarnessInfo {
  std::string name, of, doc;
  Span span;
};

struct Loaded {
  std::shared_ptr<Sources> sources;   ///< in the order read; 0 is the main file
  std::vector<std::string> relative;  ///< name of each source relative to the main file's folder
  Diagnostics diagnostics;
  std::shared_ptr<const program::Program> program;  ///< null if there are errors, or no bench
  std::vector<HarnessInfo> harnesses;               ///< that the bench declares
  std::vector<ModelInfo> models;                    ///< of all files, in the order read; then kinds of modules
  std::vector<std::string> left_out;                ///< by a harness: what speaks of what is not there
  std::vector<program::RatedCase> rated;            ///< of every model that has rated values, if asked for

  bool only_read = false;  ///< a text could not be read, so what the rest means was not looked at

  bool good() const { return !diagnostics.has_errors(); }
};

/// A text that is checked with a bench though it is not part of it: requirements, expectations, conditions, measures.
struct Rules {
  std::string name, text;  ///< what it uses is beside it: its name has the way there
  bool instead = true;     ///< its requirements and expectations take the place of the bench's own
  Reader library{};        ///< files of the library that the bench itself does not use; by their plain names
};

/// What is wanted of a file beside its Program.
struct Wish {
  std::optional<Rules> rules;
  std::string harness;       ///< run this part alone; empty: the whole bench
  bool bench_needed = true;  ///< a file of models alone is a mistake
  bool rated = false;        ///< prepare the rated checks
  bool live = false;         ///< see program::Judged
  bool lint = false;         ///< warn of what is allowed but looks wrong
};

/// Files of the shipped library and of the user's own have this before their names.
constexpr std::string_view kLibraryMark = "library:";

/// Reads `main` and every file it uses, checks them together, and makes the Program if there is no error.
///
/// `folder` is put before names in messages ("examples/canal-lock/"); it may be empty. All errors of a
/// pass are found at once; a text that cannot be parsed is not checked further.
Loaded load_bench(const std::string& folder, const std::string& main, const Reader& reader, const Wish& wish = {});

}  // namespace isodyne::check
