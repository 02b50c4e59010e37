// What a step brings, against closed forms.

#include <cmath>

#include <fmt/format.h>
#include <catch2/catch.hpp>

#include "isodyne/live/response.h"

using namespace isodyne::live;

namespace {

/// The unit step response of a system of second order: with damping z and natural frequency w (rad/s).
std::vector<Row> second_order(double z, double w, double end, double dt, double from = 0, double step = 1) {
  std::vector<Row> rows;
  const double wd = w * std::sqrt(1 - z * z);
  for (int i = 0; i * dt <= end; ++i) {
    const double t = i * dt;
    const double y = 1 - std::exp(-z * w * t) * (std::cos(wd * t) + z / std::sqrt(1 - z * z) * std::sin(wd * t));
    rows.push_back({3 + t, from + step * y});
  }
  return rows;
}

}  // namespace

TEST_CASE("Overshoot, settling, frequency and damping of a step are those of the closed form") {
  for (const double z : {0.1, 0.2, 0.4, 0.6}) {
    for (const double step : {1.0, -0.02}) {
      const double w = 2 * M_PI * 1.5;
      const auto a = answer_of(second_order(z, w, 12, 1e-4, 5, step), 5, 5 + step);
      REQUIRE(a);
      INFO("damping " << z << ", step " << step);
      CHECK(a->overshoot == Approx(std::exp(-M_PI * z / std::sqrt(1 - z * z))).epsilon(1e-4));
      CHECK(std::abs(a->off) < 1e-3);
      // Within 2 %: not before the envelope's last crossing by more than half a period, not after it.
      const double envelope = -std::log(0.02 * std::sqrt(1 - z * z)) / (z * w),
                   half = M_PI / (w * std::sqrt(1 - z * z));
      REQUIRE(a->settles);
      CHECK(*a->settles <= envelope);
      CHECK(*a->settles > envelope - half);
      if (z > 0.5) continue;  // fewer than three highs and lows above the noise
      CHECK(a->swings.course == Swings::Course::dying);
      CHECK(a->swings.hertz == Approx(1.5 * std::sqrt(1 - z * z)).epsilon(1e-3));
      CHECK(a->swings.damping == Approx(z).epsilon(0.01));
    }
  }
}

TEST_CASE("What grows, stays, or does not swing is told as such") {
  std::vector<Row> grows, steady, creeps, noisy;
  for (int i = 0; i <= 10'000; ++i) {
    const double t = i * 1e-3;
    grows.push_back({t, 1 - std::exp(0.2 * t) * std::cos(2 * M_PI * t)});
    steady.push_back({t, 1 + 0.3 * std::sin(2 * M_PI * 2 * t)});
    creeps.push_back({t, 1 - std::exp(-t)});
    noisy.push_back({t, 1 - std::exp(-t) + 0.001 * std::sin(1e3 * t)});
  }
  const auto g = answer_of(grows, 0, 1), s = answer_of(steady, 0, 1), c = answer_of(creeps, 0, 1),
             n = answer_of(noisy, 0, 1);
  CHECK(g->swings.course == Swings::Course::growing);
  CHECK(g->swings.damping < 0);
  CHECK(g->swings.hertz == Approx(1).epsilon(0.01));
  CHECK_FALSE(g->settles);
  CHECK(s->swings.course == Swings::Course::steady);
  CHECK(s->swings.hertz == Approx(2).epsilon(0.01));
  CHECK_FALSE(s->settles);
  CHECK(c->swings.course == Swings::Course::none);
  CHECK(c->overshoot == 0);
  CHECK(*c->settles == Approx(-std::log(0.02)).epsilon(0.01));
  CHECK(n->swings.course == Swings::Course::none);
  // What still moves has not settled; nor is what is no number measured.
  std::vector<Row> ramp;
  for (int i = 0; i <= 100; ++i) ramp.push_back({0.1 * i, 0.01 * i});
  CHECK_FALSE(answer_of(ramp, 0, 1)->settles);
  ramp[50].value = NAN;
  CHECK_FALSE(answer_of(ramp, 0, 1));
  CHECK_FALSE(answer_of({}, 0, 1));
  CHECK_FALSE(answer_of(steady, 1, 1));
}
