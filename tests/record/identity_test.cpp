// Everything that makes one run another, wherever runs are told apart.

#include <set>

#include <catch2/catch.hpp>

#include "isodyne/core/text.h"
#include "isodyne/record/identity.h"
#include "isodyne/session/stored_state.h"

using namespace isodyne;
using record::RunIdentity;

namespace {

/// One run, and others of which each differs from it in one thing that was asked for.
std::vector<std::pair<const char*, RunIdentity>> others() {
  RunIdentity own;
  own.version = "1.2.3";
  own.main = "b.dyne";
  own.method = "rk4";
  std::vector<std::pair<const char*, RunIdentity>> all{{"own", own}};
  const auto other = [&](const char* what) -> RunIdentity& { return all.emplace_back(what, own).second; };
  other("scenario").scenario = "rise";
  other("harness").harness = "alone";
  other("faults").faults = {"drift"};
  other("two faults").faults = {"drift", "noise"};
  other("setting").setting = "code";
  other("seed").seed = 18446744073709551615u;
  other("for").longest = Time{90'000'000'001};
  other("paced").pace = record::RunPace{};
  other("speed").pace = record::RunPace{0.1};
  other("overrides").overrides = {{"x", 1.0 / 3, "m", ""}};
  other("another value").overrides = {{"x", 0.33333333333333, "m", ""}};
  other("a label").overrides = {{"open", 1, "", "true"}};
  RunIdentity& reference = other("reference");
  reference.made_by = record::MadeBy::reference;
  reference.method = record::kReferenceMethod;
  return all;
}

}  // namespace

TEST_CASE("What was asked of a run tells it from others in every place where runs are told apart") {
  std::set<std::string> names, commands, prints;
  const auto all = others();
  for (const auto& [what, identity] : all) {
    INFO(what);
    CHECK(names.insert(record::wish_name(identity, "B")).second);
    CHECK(commands.insert(listed(record::command_words(identity), "", "|")).second);
    CHECK(prints.insert(record::fingerprint(identity)).second);
  }
  // These say nothing of what was asked, but of what it was made of.
  for (std::string RunIdentity::*member : {&RunIdentity::version, &RunIdentity::main, &RunIdentity::state}) {
    RunIdentity changed = all.front().second;
    changed.*member += "x";
    CHECK(prints.insert(record::fingerprint(changed)).second);
  }
}

TEST_CASE("An identity is read back from its texts as it was, and from a stored state") {
  for (const auto& [what, identity] : others()) {
    INFO(what);
    RunIdentity back;
    for (const record::IdentityField& f : record::identity_fields()) CHECK(f.read(back, f.text(identity)));
    CHECK(record::fingerprint(back) == record::fingerprint(identity));
    CHECK(back.made_by == identity.made_by);
    CHECK(back.longest == identity.longest);
    session::StoredState state;
    state.identity = identity;
    const auto stored = session::parse_state(session::to_json(state), "a text");
    REQUIRE(stored);
    CHECK(record::fingerprint(stored->identity) == record::fingerprint(identity));
  }
}

TEST_CASE("Texts of others that are no such field are refused") {
  const auto field = [](const std::string& key) {
    for (const record::IdentityField& f : record::identity_fields()) {
      if (f.key == key) return f;
    }
    FAIL(key);
    return record::identity_fields().front();
  };
  RunIdentity i;
  for (const char* text : {"-1", "1.5", "18446744073709551616", "x"}) CHECK_FALSE(field("seed").read(i, text));
  for (const char* text : {"90", "s", "-1 s", "1 m"}) CHECK_FALSE(field("for").read(i, text));
  for (const char* text : {"--speed 2", "--paced --speed", "--paced --speed 0", "--paced --speed x"})
    CHECK_FALSE(field("pace").read(i, text));
  for (const char* text : {"x", "x=", "x=m", "=,"}) CHECK_FALSE(field("overrides").read(i, text));
  CHECK(field("for").read(i, "1 min 30 s"));
  CHECK(field("for").text(i) == "90 s");
}
