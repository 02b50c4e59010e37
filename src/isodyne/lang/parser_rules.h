#pragma once
// The parser of declarations: one method per rule, its grammar above it. Private to this layer; parser.h is
// the way in. A mistake throws Abandoned, which the innermost block catches to go on with its next statement.

#include <string>
#include <vector>

#include "isodyne/lang/expression_parser.h"
#include "isodyne/lang/token_stream.h"

namespace isodyne::lang {

class Parser {
 public:
  Parser(const Sources& sources, std::int32_t source, Diagnostics& diagnostics, Document& document)
      : sources_(sources), t_(sources, source, diagnostics), x_(t_), document_(document) {}

  void text();

 private:
  /// Blocks within blocks are parsed by recursion; a person nests a few.
  static constexpr int kMostBlocks = 50;

  template <typename Body>
  void guarded(Body body) {
    const int blocks = blocks_;
    try {
      body();
    } catch (const Abandoned&) {
      blocks_ = blocks;
      t_.recover();
    }
  }

  /// "{" { item } "}", where an item is anything `item` takes; a broken one is skipped.
  template <typename Item>
  void block(const char* what, Item item) {
    t_.skip_newlines();
    const Span open = t_.expect("{", what).span;
    if (blocks_ >= kMostBlocks) too_many_blocks(open);
    ++blocks_;
    while (true) {
      t_.skip_newlines();
      if (t_.accept("}")) break;
      if (t_.at_end()) {
        never_closed(open);
        break;
      }
      guarded(item);
    }
    --blocks_;
  }
  [[noreturn]] void too_many_blocks(Span open);
  void never_closed(Span open);

  std::string unknown_statement(const std::vector<std::string>& words) const;
  std::string docs();
  bool equation_follows() const;

  // parser.cpp: files
  bool declaration(const std::string& doc);
  void use();
  void function(const std::string& doc);
  FunctionDecl::Param function_param();
  void table(const std::string& doc);
  TableDecl table_head(const std::string& doc);
  std::vector<TableDecl::Row> table_rows(bool two_arguments);
  void choice(const std::string& doc);

  // parse_members.cpp: models
  void model(const std::string& doc);
  bool model_member(ModelDecl& m, const std::string& doc);
  void unit(ModelDecl& m, const std::string& doc);
  void model_table(ModelDecl& m, const std::string& doc);
  void rated(ModelDecl& m, const std::string& doc, bool in_bench);
  void rated_line(RatedDecl& r);
  bool member(Members& m, const std::string& doc);
  bool variable(Members& m, const std::string& doc, bool is_private);
  bool variable_kind(VarDecl& v);
  void bounds(VarDecl& v);
  void place(Members& m, const std::string& doc);
  void placed(PartDecl& p);
  PartDecl::Lies lies(bool may_be_named);
  void part(Members& m, const std::string& doc, bool is_private);
  void part_arguments(PartDecl& p);
  ModesDecl modes(const std::string& doc);
  Transition transition(const Name& from);
  ModesDecl::Body mode_body(const Name& mode);
  std::vector<Action> actions(const char* what);
  Action action_in_block();
  void every(Members& m);
  void when(Members& m);
  void solve(Members& m, const std::string& doc);
  LoopHead loop_head();
  void loop(Members& m);
  void variant(Members& m);
  std::unique_ptr<Members> inner(const char* what);
  void equation(Members& m);

  // parse_bench.cpp
  void bench(const std::string& doc);
  bool bench_member(BenchDecl& b, const std::string& doc);
  void step(BenchDecl& b);
  void record(BenchDecl& b);
  void kept_around(RecordDecl& r);
  Name pattern();
  Interval interval();
  PerUnit per_unit(ExprPtr factor);
  WordDecl word();
  void scale(ChannelDecl& c);
  bool channel_clause(ChannelDecl& c);
  void electrical(ChannelDecl& c);
  void sensor(BenchDecl& b, const std::string& doc);
  void actuator(BenchDecl& b, const std::string& doc);
  void controller(BenchDecl& b, const std::string& doc);
  void setting(ControllerDecl& c);
  void messages(BenchDecl& b, const std::string& doc);
  ControllerDecl::Setting::Clause setting_clause();
  void tags(ControllerDecl& c);
  void frame(BenchDecl& b, const std::string& doc);
  bool from_high();
  bool frame_field(FrameDecl& f, const std::string& doc);
  BitPlace bit_place();

  // parse_racks.cpp
  void module(const std::string& doc);
  void rack(BenchDecl& b, const std::string& doc);
  RackDecl::Slot slot();
  RackDecl::Channel rack_channel();
  Name element(const char* what);

  // parse_judged.cpp
  bool judged_declaration(const std::string& doc);
  void condition(const std::string& doc);
  void fault(const std::string& doc);
  void fault_kind(FaultDecl& f);
  void fault_memory(FaultDecl& f);
  bool at_fault_time() const;
  bool fault_time(FaultDecl& f);
  void compose();
  void expectation(const std::string& doc);
  ExpectationDecl::Row expectation_row();
  void requirement(const std::string& doc);
  Name label(const char* what = "the name of the requirement");
  void harness(const std::string& doc);
  void measure(const std::string& doc);
  bool measure_clause(MeasureDecl& m);
  bool measure_window(MeasureDecl& m);
  void figure(const std::string& doc);
  void panel(const std::string& doc);
  void cables(const std::string& doc);
  void wiring(const std::string& doc);
  WiringDecl::Wire wire();

  // parse_assurance.cpp
  bool assurance_declaration(const std::string& doc);
  void campaign(const std::string& doc);
  CampaignDecl::FaultSets fault_sets();
  CampaignDecl::Vary vary();
  void failure_modes(const std::string& doc);
  FailureModesDecl::Row failure_row();
  void basic_event(const std::string& doc);
  void hazard(const std::string& doc);
  TreeFormula tree_formula(int depth);
  TreeFormula tree_gate(TreeFormula::Kind kind, std::vector<TreeFormula> of);
  TreeFormula tree_part(int depth);
  std::vector<Name> names(const char* what);
  std::vector<Name> labels(const char* what);
  std::vector<Path> paths(const char* what);

  // parse_scenario.cpp
  void scenario(const std::string& doc);
  void scenario_param(ScenarioDecl& s);
  void values(const std::string& doc);
  std::vector<ScenarioStep> scenario_block(const char* what);
  ScenarioStep action();
  void action_of_value(ScenarioStep& s);
  void action_of_time(ScenarioStep& s);
  void action_of_names(ScenarioStep& s);
  void action_of_blocks(ScenarioStep& s);
  void schedule(ScenarioStep& s);

  static const std::vector<std::string> kDeclarations, kMembers;

  const Sources& sources_;
  TokenStream t_;
  ExpressionParser x_;
  Document& document_;
  int blocks_ = 0;
};

}  // namespace isodyne::lang
