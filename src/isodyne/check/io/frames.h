#pragma once
// Frames: which bits of which word hold what, and every way in which that can be wrong.

#include <array>

#include "isodyne/check/plant/expressions.h"

namespace isodyne::check {

class Frames {
 public:
  Frames(Check& check, Expressions& expressions, const lang::BenchDecl& bench)
      : check_(check), x_(expressions), bench_(bench) {}

  /// Names of frames, fields and ports.
  void declare();
  /// Their bits; channels must be defined.
  void define();

 private:
  /// What fills the bits of one word: index of the field, or kSpare.
  static constexpr int kFree = -1, kSpare = -2;
  struct Filled {
    std::array<int, 64> by;
    std::array<Span, 64> span;
    Filled() { by.fill(kFree); }
  };
  using Kind = lang::FrameDecl::Field::Kind;

  void declare_field(const lang::FrameDecl::Field& field, Instance& inside, Frame& frame);
  void define_frame(const lang::FrameDecl& f, Frame& frame);
  void head(const lang::FrameDecl& f, Frame& frame);
  std::optional<BitRange> place(const lang::BitPlace& place, const Frame& frame);
  std::optional<int> whole(const lang::Expr& e, const char* what);
  bool fill(const lang::FrameDecl::Field& field, const BitRange& bits, const Frame& frame, int by);
  void gaps(const lang::FrameDecl& f, const Frame& frame);
  void content(const lang::FrameDecl::Field& field, Frame& frame, FrameField& made);
  void channel(const lang::FrameDecl::Field& field, Frame& frame, FrameField& made, VarId id);
  void word_fits(const lang::FrameDecl::Field& field, const Word& word, const Frame& frame, const FrameField& made);
  void line_fits(const lang::FrameDecl::Field& field, const Type& type, const Frame& frame, const FrameField& made);
  void counting(const lang::FrameDecl::Field& field, FrameField& made);
  void port(const lang::FrameDecl::Field& field, FramePort& made, const Frame& frame);
  void direction(const lang::FrameDecl::Field& field, bool to_controller, Frame& frame);
  ExprScope scope() const { return {&check_.root, nullptr}; }

  Check& check_;
  Expressions& x_;
  const lang::BenchDecl& bench_;
  std::vector<Filled> filled_;  ///< of the present frame
  Span directed_;               ///< what first said which way the present frame goes
};

}  // namespace isodyne::check
