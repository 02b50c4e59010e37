#pragma once
// JSON-RPC 2.0 (jsonrpc.org, 2013), one message a line. Every line is bounded by whoever reads it.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/json.h"

namespace isodyne::remote {

using Json = CheckedJson;

/// Those of the standard, and ours from 1 on.
enum class RpcError : int {
  not_json = -32700,
  no_request = -32600,
  no_method = -32601,
  wrong_params = -32602,
  refused = 1,   ///< the run did not do it, and `data` says why in a word
  over = 2,      ///< the run is over
  too_many = 3,  ///< clients, watches, or calls in one message
};

struct Call {
  std::string method;
  Json params;
  std::optional<Json> id;  ///< none: nobody waits for an answer
};

/// One line: its calls, and answers to what was none.
struct Message {
  std::vector<Call> calls;
  std::vector<Json> answers;
  bool batch = false;  ///< answers go out together
};
constexpr std::size_t kMostCalls = 1000;
Message read_message(std::string_view line);

Json result_of(const Json& id, Json result);
Json error_of(const Json& id, RpcError code, const std::string& text, Json data = nullptr);
/// A text among the parameters; empty: there is none.
std::string text_in(const Json& params, const char* name);
Json notification(const std::string& method, Json params);
/// With its end; what is no UTF-8 is replaced.
std::string line_of(const Json& message);

}  // namespace isodyne::remote
