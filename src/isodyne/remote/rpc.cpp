#include "isodyne/remote/rpc.h"

#include <fmt/format.h>

namespace isodyne::remote {

namespace {

bool good_id(const Json& id) {
  return id.is_string() || id.is_number() || id.is_null();
}

void read_call(const Json& one, Message& message) {
  const auto wrong = [&](const std::string& text) {
    const bool named = one.is_object() && one.contains("id") && good_id(one["id"]);
    message.answers.push_back(error_of(named ? one["id"] : Json(nullptr), RpcError::no_request, text));
  };
  if (!one.is_object()) return wrong("a call is an object");
  if (one.value("jsonrpc", Json()) != "2.0") return wrong("a call has \"jsonrpc\": \"2.0\"");
  if (!one.contains("method") || !one["method"].is_string()) return wrong("a call has a \"method\", which is a text");
  Call call;
  call.method = one["method"].get<std::string>();
  if (one.contains("id")) {
    if (!good_id(one["id"])) return wrong("an \"id\" is a text or a number");
    call.id = one["id"];
  }
  call.params = one.contains("params") ? one["params"] : Json::object();
  if (!call.params.is_object()) {
    if (call.id)
      message.answers.push_back(
          error_of(*call.id, RpcError::wrong_params, "parameters have names here: \"params\" is an object"));
    return;
  }
  message.calls.push_back(std::move(call));
}

}  // namespace

Message read_message(std::string_view line) {
  Message message;
  const auto parsed = parse_json(line);
  if (!parsed) {
    message.answers.push_back(error_of(nullptr, RpcError::not_json, parsed.failure().text()));
    return message;
  }
  if (!parsed->is_array()) {
    read_call(*parsed, message);
    return message;
  }
  if (parsed->empty() || parsed->size() > kMostCalls) {
    message.answers.push_back(error_of(nullptr, parsed->empty() ? RpcError::no_request : RpcError::too_many,
                                       fmt::format("a message has 1 to {} calls", kMostCalls)));
    return message;
  }
  message.batch = true;
  for (const Json& one : *parsed) read_call(one, message);
  return message;
}

Json result_of(const Json& id, Json result) {
  return {{"jsonrpc", "2.0"}, {"id", id}, {"result", std::move(result)}};
}

Json error_of(const Json& id, RpcError code, const std::string& text, Json data) {
  Json error{{"code", static_cast<int>(code)}, {"message", text}};
  if (!data.is_null()) error["data"] = std::move(data);
  return {{"jsonrpc", "2.0"}, {"id", id}, {"error", std::move(error)}};
}

std::string text_in(const Json& params, const char* name) {
  const auto found = params.find(name);
  return found != params.end() && found->is_string() ? found->get<std::string>() : "";
}

Json notification(const std::string& method, Json params) {
  return {{"jsonrpc", "2.0"}, {"method", method}, {"params", std::move(params)}};
}

std::string line_of(const Json& message) {
  return message.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
}

}  // namespace isodyne::remote
