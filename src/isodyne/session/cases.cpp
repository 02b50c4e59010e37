#include "isodyne/session/cases.h"

#include <algorithm>
#include <cmath>
#include <numeric>

#include <fmt/format.h>
#include <boost/random/sobol.hpp>

#include "isodyne/core/random.h"
#include "isodyne/core/text.h"

namespace isodyne::session {

using program::Campaign;

namespace {

constexpr std::size_t kMostPlaces = 100'000'000, kMostPairs = 2'000'000;

Failure refused(const std::string& why, const std::string& help) {
  return {why, "", help, Failure::Kind::wrong_input};
}

/// A number in [0, 1) as one of so many parts.
std::size_t part_of(double u, std::size_t parts) {
  return std::min(parts - 1, static_cast<std::size_t>(u * static_cast<double>(parts)));
}

}  // namespace

Result<Cases> Cases::of(const program::Program& program, const Campaign& campaign, std::uint64_t seed) {
  Cases made(campaign);
  made.names_ = {"scenario", "fault", "setting"};
  made.levels_ = {campaign.scenarios.size(), campaign.fault_sets.size(), campaign.settings.size()};
  for (const Campaign::Vary& v : campaign.varied) {
    made.names_.push_back(program.variable(v.what).name);
    made.levels_.push_back(v.range ? 0 : v.values.size());
  }
  const bool every = campaign.draw == Campaign::Draw::all || campaign.draw == Campaign::Draw::grid;
  const Status good = every                                       ? made.every_combination(campaign.draws > 0)
                      : campaign.draw == Campaign::Draw::pairwise ? made.pairs(seed)
                                                                  : made.drawn(seed);
  if (!good) return good.failure();
  return made;
}

/// Of a grid all ranges have as many values as fit into what was asked for, two at least: their ends.
Status Cases::every_combination(bool grid) {
  steps_ = levels_;
  double listed = 1;
  std::size_t ranges = 0;
  for (const std::size_t l : levels_) {
    if (l == 0)
      ++ranges;
    else
      listed *= static_cast<double>(l);
  }
  if (grid && ranges > 0) {
    const auto most = static_cast<double>(campaign_->draws);
    std::size_t of_each = 2;
    const auto all = [&](std::size_t k) {
      return listed * std::pow(static_cast<double>(k), static_cast<double>(ranges));
    };
    if (all(2) > most)
      return refused(
          fmt::format("a grid of these factors has {:.0f} cases, and {} are drawn", all(2), campaign_->draws),
          fmt::format("draw {:.0f} by grid, or by latin_hypercube, which takes any number", all(2)));
    while (all(of_each + 1) <= most) ++of_each;
    for (std::size_t& s : steps_) s = s == 0 ? of_each : s;
  }
  double all = 1;
  for (const std::size_t s : steps_) all *= static_cast<double>(s);
  const double most = grid ? static_cast<double>(campaign_->draws) : static_cast<double>(kMost);
  if (all > most)
    return refused(fmt::format("every combination of these factors is {:.0f} cases, more than {:.0f}", all, most),
                   "draw some of them: draw 1000 by latin_hypercube, or every two values together: by pairwise");
  count_ = static_cast<std::int64_t>(all);
  return Done{};
}

Status Cases::drawn(std::uint64_t seed) {
  const std::size_t width = levels_.size();
  count_ = campaign_->draws;
  const auto rows = static_cast<std::size_t>(count_);
  if (rows * width > kMostPlaces)
    return refused(fmt::format("{} cases of {} factors are too many to be drawn", count_, width), "draw fewer");
  places_.resize(rows * width);
  if (campaign_->draw == Campaign::Draw::sobol) {
    boost::random::sobol sequence(width);
    const double span = std::ldexp(1.0, 64);
    for (double& place : places_) place = std::min(static_cast<double>(sequence()) / span, std::nextafter(1.0, 0.0));
    return Done{};
  }
  for (std::size_t f = 0; f < width; ++f) {
    RandomStream random(seed, "cases/" + names_[f]);
    std::vector<std::uint32_t> order(rows);
    std::iota(order.begin(), order.end(), 0u);
    const bool latin = campaign_->draw == Campaign::Draw::latin_hypercube;
    for (std::size_t i = rows; latin && i > 1; --i) std::swap(order[i - 1], order[part_of(random.uniform(), i)]);
    for (std::size_t i = 0; i < rows; ++i) {
      const double u = random.uniform();
      places_[i * width + f] = latin ? (order[i] + u) / static_cast<double>(rows) : u;
    }
  }
  return Done{};
}

/// Case by case: a pair that has not met yet, and for each other factor the value that meets most others for the first
/// time; of several such cases the best.
Status Cases::pairs(std::uint64_t seed) {
  const std::size_t width = levels_.size();
  std::vector<std::size_t> begin(width + 1, 0);
  for (std::size_t f = 0; f < width; ++f) begin[f + 1] = begin[f] + levels_[f];
  const std::size_t all = begin[width];
  if (all * all > 2 * kMostPairs)
    return refused(fmt::format("{} values are too many to meet in pairs", all), "draw 1000 by latin_hypercube");
  std::vector<char> met(all * all, 0);
  std::vector<std::pair<std::size_t, std::size_t>> open;
  for (std::size_t f = 0; f < width; ++f) {
    for (std::size_t g = f + 1; g < width; ++g) {
      for (std::size_t a = begin[f]; a < begin[f + 1]; ++a) {
        for (std::size_t b = begin[g]; b < begin[g + 1]; ++b) open.emplace_back(a, b);
      }
    }
  }
  listed_ = true;
  RandomStream random(seed, "cases/pairwise");
  const auto factor_of = [&](std::size_t value) {
    return static_cast<std::size_t>(std::upper_bound(begin.begin(), begin.end(), value) - begin.begin()) - 1;
  };
  const auto fresh = [&](const std::vector<std::size_t>& row, std::size_t value) {
    std::size_t count = 0;
    for (const std::size_t other : row)
      count += other != all && met[std::min(other, value) * all + std::max(other, value)] == 0;
    return count;
  };
  for (std::size_t next = 0;; ++count_) {
    while (next < open.size() && met[open[next].first * all + open[next].second] != 0) ++next;
    if (next == open.size()) break;
    std::vector<std::size_t> best;
    std::size_t best_count = 0;
    for (int attempt = 0; attempt < 10; ++attempt) {
      std::vector<std::size_t> row(width, all), order(width);
      row[factor_of(open[next].first)] = open[next].first;
      row[factor_of(open[next].second)] = open[next].second;
      std::iota(order.begin(), order.end(), std::size_t{0});
      for (std::size_t i = width; i > 1; --i) std::swap(order[i - 1], order[part_of(random.uniform(), i)]);
      std::size_t total = 1;
      for (const std::size_t f : order) {
        if (row[f] != all) continue;
        std::size_t most = 0, chosen = begin[f] + part_of(random.uniform(), levels_[f]);
        for (std::size_t v = begin[f]; v < begin[f + 1]; ++v) {
          if (const std::size_t n = fresh(row, v); n > most) most = n, chosen = v;
        }
        row[f] = chosen;
        total += most;
      }
      if (total > best_count) best_count = total, best = row;
    }
    for (std::size_t f = 0; f < width; ++f) {
      for (std::size_t g = f + 1; g < width; ++g) met[best[f] * all + best[g]] = 1;
      places_.push_back(static_cast<double>(best[f] - begin[f]));
    }
  }
  if (count_ > campaign_->draws)
    return refused(fmt::format("that every two values meet takes {} cases, and {} are drawn", count_, campaign_->draws),
                   fmt::format("draw {} by pairwise", count_));
  return Done{};
}

double Cases::place(std::int64_t index, std::size_t factor) const {
  if (!places_.empty()) return places_[static_cast<std::size_t>(index) * levels_.size() + factor];
  for (std::size_t f = levels_.size() - 1; f > factor; --f) index /= static_cast<std::int64_t>(steps_[f]);
  return static_cast<double>(index % static_cast<std::int64_t>(steps_[factor]));
}

Case Cases::at(std::int64_t number) const {
  const std::int64_t index = number - 1;
  const bool levels = places_.empty() || listed_;
  const auto which = [&](std::size_t factor) {
    const double at = place(index, factor);
    return levels ? static_cast<std::size_t>(at) : part_of(at, levels_[factor]);
  };
  Case c;
  c.number = number;
  c.scenario = campaign_->scenarios[which(0)];
  c.faults = campaign_->fault_sets[which(1)];
  c.setting = campaign_->settings[which(2)];
  for (std::size_t i = 0; i < campaign_->varied.size(); ++i) {
    const Campaign::Vary& v = campaign_->varied[i];
    if (!v.range) {
      c.values.push_back(v.values[which(3 + i)]);
      continue;
    }
    const double at = place(index, 3 + i);
    const double share = levels ? at / static_cast<double>(steps_[3 + i] - 1) : at;
    // The ends themselves, where they are meant.
    c.values.push_back(share == 1 ? v.range->second : v.range->first + share * (v.range->second - v.range->first));
  }
  return c;
}

}  // namespace isodyne::session
