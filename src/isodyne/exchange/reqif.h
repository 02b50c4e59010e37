#pragma once
// Requirements as ReqIF 1.2 (OMG formal/16-07-01), the open exchange format of requirement tools, and back.
//
// Identifiers are kept: what came with one (`id "…"` in the text) goes out with it, so that the other side recognises
// its own objects. Attributes follow the names of the ReqIF implementation guide (ReqIF.ForeignID, ReqIF.Name,
// ReqIF.Text); formula and source are attributes of our own.

#include <string>
#include <vector>

#include "isodyne/core/result.h"
#include "isodyne/program/program.h"

namespace isodyne::exchange {

/// One object of an exchange file.
struct ExchangedRequirement {
  std::string id;    ///< IDENTIFIER of the object
  std::string name;  ///< as our text can have it: ReqIF.ForeignID, or made from the identifier
  std::string text;  ///< without markup
  std::string source;
  std::string formula;  ///< in our language; empty: it has none yet
  std::string unread;   ///< a formula that is not in our language, or more than one
};

std::string to_reqif(const program::Program& program);

/// At most kMostReqifObjects in 64 MiB; a Failure says what is wrong with the file and where.
constexpr std::size_t kMostReqifObjects = 100'000;
Result<std::vector<ExchangedRequirement>> from_reqif(const std::string& file, const std::string& text);

/// The requirements as a text of the language; those without a formula are `by review`.
std::string rules_text(const std::vector<ExchangedRequirement>& requirements, const std::string& from);

}  // namespace isodyne::exchange
