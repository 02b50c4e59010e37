#include "isodyne/remote/stretch_judge.h"

#include <algorithm>

namespace isodyne::remote {

void StretchJudge::image(const observe::Image& image) {
  if (!any()) return;
  if (wanted_ && !judge_) {
    judge_ = std::make_unique<judge::Judge>(program_, judge::Judge::Where::here, requirements_);
    from_ = at_.value_or(image.at);
    if (at_) judge_->image({*at_, last_.data()});
    for (Block& b : since_) {
      b.rows.columns = b.columns;
      b.rows.values = b.values.data();
      b.edges ? judge_->edges({b.list}) : judge_->rows(b.rows);
    }
  }
  if (judge_) judge_->image(image);
  since_.clear();
  last_.assign(image.variables, image.variables + program_->variables.size());
  at_ = image.at;
}

void StretchJudge::rows(const observe::Rows& rows) {
  if (!any()) return;
  if (judge_) return void(judge_->rows(rows));
  Block b;
  b.rows = rows;
  b.columns.assign(rows.columns.begin(), rows.columns.end());
  b.values.assign(rows.values, rows.values + rows.count * rows.columns.size());
  since_.push_back(std::move(b));
}

void StretchJudge::edges(const observe::Edges& edges) {
  if (!any()) return;
  if (judge_) return void(judge_->edges(edges));
  Block b;
  b.edges = true;
  b.list.assign(edges.list.begin(), edges.list.end());
  since_.push_back(std::move(b));
}

/// What was asked for and has not come by the end of the stretch is undecided: the run may bring it yet.
std::optional<StretchJudge::Verdicts> StretchJudge::end() {
  wanted_ = false;
  if (!judge_) return std::nullopt;
  Verdicts v{from_, *at_, judge_->verdicts(observe::Ending::cut_short)};
  judge_.reset();
  return v;
}

}  // namespace isodyne::remote
