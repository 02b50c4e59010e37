#include "isodyne/session/campaign.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <map>
#include <set>

#include <fmt/format.h>

#include "isodyne/core/json.h"
#include "isodyne/core/text.h"
#include "isodyne/session/case_rounds.h"
#include "isodyne/session/case_views.h"
#include "isodyne/session/evidence.h"
#include "isodyne/session/workers.h"

namespace isodyne::session {

namespace fs = std::filesystem;
using program::Campaign;

namespace {

/// Of the files of controllers, as far as they are there: a run says what is missing.
std::string code_of(const CampaignWish& wish) {
  std::uint64_t hash = fnv1a("");
  for (const program::Controller& c : wish.bench->program->controllers) {
    for (const std::string& setting : wish.factors().settings) {
      const program::Setting* s = bench::setting_of(c, setting);
      if (s == nullptr || program::port_kind(s->kind).at != program::PortAt::file) continue;
      const fs::path given = fs::path(wish.bench->folder) / s->address.substr(0, s->address.find(' '));
      const fs::path prefixed = given.parent_path() / ("lib" + given.filename().string());
      for (const std::string& file : {given.string(), given.string() + ".so", prefixed.string() + ".so"}) {
        std::error_code none;
        if (!fs::is_regular_file(file, none)) continue;
        std::ifstream in(file, std::ios::binary);
        const std::string bytes{std::istreambuf_iterator<char>(in), {}};
        hash = fnv1a(bytes, fnv1a(s->address, hash));
      }
    }
  }
  return fmt::format("{:016x}", hash);
}

CaseBookKey key_of(const CampaignWish& wish, const Cases& cases) {
  const program::Program& p = *wish.bench->program;
  const Campaign& c = wish.factors();
  RunRequest any;
  any.bench = wish.bench;
  CaseBookKey key;
  key.bench = p.name, key.campaign = c.name, key.seed = std::to_string(wish.seed), key.count = cases.count();
  key.fingerprint = record::fingerprint(identity_of(any)), key.code = code_of(wish);
  key.file = fs::absolute(fs::path(wish.bench->folder) / wish.bench->sources.front().first).lexically_normal().string();
  for (const program::Requirement& r : p.requirements) key.meanings.emplace_back(r.name, r.doc);
  key.factors = {{"scenario", {}, 0, 0, {}}, {"fault", {}, 0, 0, {}}, {"setting", c.settings, 0, 0, {}}};
  for (const std::int32_t s : c.scenarios) key.factors[0].values.push_back(program::at(p.scenarios, s).name);
  for (const auto& set : c.fault_sets) {
    std::string names;
    for (const std::int32_t f : set) list_on(names, program::at(p.faults, f).name);
    key.factors[1].values.push_back(names.empty() ? "none" : names);
  }
  for (const Campaign::Vary& v : c.varied) {
    const program::Variable& variable = p.variable(v.what);
    const bool real = variable.type.kind == program::Type::Kind::real;
    key.varied.emplace_back(variable.name, real && variable.unit.text != "1" ? variable.unit.text : "");
    const auto read = [&](double x) { return real ? variable.unit.read(x) : x; };
    CaseFactor factor{variable.name, {}, 0, 0, {}};
    for (const double x : v.values) factor.values.push_back(format_exact(read(x)));
    if (v.range) factor.low = read(v.range->first), factor.high = read(v.range->second);
    if (variable.limits) factor.limits.emplace(read(variable.limits->first), read(variable.limits->second));
    key.factors.push_back(std::move(factor));
  }
  return key;
}

bool may_be_beside(const program::Program& p, const Campaign& campaign) {
  return std::all_of(campaign.settings.begin(), campaign.settings.end(),
                     [&](const std::string& setting) { return runs_beside(p, setting); });
}

/// Of which cases recordings are kept, with what they came to.
Result<std::vector<CaseResult>> to_keep(const Campaign& campaign, CaseBook& book) {
  std::vector<CaseResult> kept;
  if (campaign.keep == Campaign::Keep::worst) {
    auto all = book.all();
    if (!all) return all.failure();
    const auto near = nearness(*all);
    std::stable_sort(all->begin(), all->end(), [&](const CaseResult& a, const CaseResult& b) {
      return near.at(a.number).share < near.at(b.number).share;
    });
    all->resize(std::min(all->size(), static_cast<std::size_t>(campaign.kept)));
    return all;
  }
  const Status read = book.each([&](CaseResult& r) {
    const bool good = r.outcome != kNotRun;
    if (good && (campaign.keep == Campaign::Keep::all || (campaign.keep == Campaign::Keep::broken && is_broken(r))))
      kept.push_back(std::move(r));
  });
  if (!read) return read.failure();
  return kept;
}

}  // namespace

Status find_source(const CaseBookKey& key, CaseSource& source) {
  RunRequest any;
  any.bench = source.bench;
  const auto& campaigns = source.bench->program->campaigns;
  const auto found =
      std::find_if(campaigns.begin(), campaigns.end(), [&](const Campaign& c) { return c.name == key.campaign; });
  if (record::fingerprint(identity_of(any)) != key.fingerprint || found == campaigns.end())
    return Failure{"the bench is not the text that the cases are of",
                   source.bench->folder + source.bench->sources.front().first, "it was changed since",
                   Failure::Kind::wrong_input};
  source.campaign = static_cast<std::size_t>(found - campaigns.begin());
  source.seed = std::strtoull(key.seed.c_str(), nullptr, 10);
  return Done{};
}

Result<RunRequest> request_again(const CaseBookKey& key, CaseSource source, const CaseResult& was) {
  const Status found = find_source(key, source);
  if (!found) return found.failure();
  const auto cases = Cases::of(*source.bench->program, source.factors(), source.seed);
  if (!cases) return cases.failure();
  if (was.number < 1 || was.number > cases->count())
    return Failure{fmt::format("the campaign has no case {} now", was.number), "", "", Failure::Kind::wrong_input};
  RunRequest request = request_of(source, cases->at(was.number));
  request.evidence.in_catalogue = true;
  request.among_others = false;
  if (auto trouble = bench::trouble_with(*source.bench->program, request.plan)) return *trouble;
  return request;
}

Result<CampaignCourse> run_campaign(CampaignWish wish, const std::function<bool(const CampaignCourse&)>& heard) {
  constexpr std::size_t kMany = 30;
  const Campaign& campaign = wish.factors();
  const auto cases = Cases::of(*wish.bench->program, campaign, wish.seed);
  if (!cases) return cases.failure();
  for (const std::int64_t number : wish.only) {
    if (number < 1 || number > cases->count())
      return Failure{fmt::format("there is no case {}", number), "", fmt::format("there are 1 to {}", cases->count()),
                     Failure::Kind::wrong_input};
  }
  if (wish.cluster && campaign.until)
    return Failure{"tasks on a cluster know nothing of each other, so they cannot end when enough is covered", "",
                   "leave out `until`, or run it on one machine", Failure::Kind::wrong_input};
  const auto items = std::make_shared<const CoverageItems>(*wish.bench->program, campaign);
  CaseBookKey key = key_of(wish, *cases);
  key.items = items->all();
  std::error_code none;
  const bool fresh = !fs::exists(wish.book, none);
  auto book = CaseBook::open(wish.book, key, wish.resume || !wish.only.empty());
  if (!book) return book.failure();
  const std::set<std::int64_t> there = (*book)->done();
  CampaignCourse course;
  course.before = static_cast<std::int64_t>(there.size());
  std::vector<std::int64_t> wanted;
  for (const std::int64_t n : wish.only) {
    if (!wish.resume || !there.contains(n)) wanted.push_back(n);
  }
  for (std::int64_t n = 1; n <= cases->count() && wish.only.empty(); ++n) {
    if (!there.contains(n)) wanted.push_back(n);
  }
  course.wanted = static_cast<std::int64_t>(wanted.size());
  wish.many = wanted.size() >= kMany;
  wish.items = items;
  const std::size_t jobs = may_be_beside(*wish.bench->program, campaign) ? wish.jobs : 1;
  CaseRounds rounds(wish, *cases, **book, jobs, course, heard);
  Status stored = rounds.count_in();
  if (stored) stored = wish.cluster ? rounds.run_on_cluster(wanted) : rounds.run(wanted);
  if (!stored && fresh && course.done == 0) {  // nothing of it is worth to be in the way of another try
    book->reset();
    fs::remove(wish.book, none);
  }
  if (!stored) return stored.failure();
  if (course.stopped || campaign.keep == Campaign::Keep::none || !wish.recordings) return course;
  // They are run a second time for it, and compared: a controller may not be repeatable.
  auto kept = to_keep(campaign, **book);
  if (!kept) return kept.failure();
  const auto folder = [&](const CaseResult& r) {
    return (fs::path(wish.kept) / fmt::format("{:06}", r.number)).string();
  };
  std::erase_if(*kept, [&](const CaseResult& r) { return fs::exists(fs::path(folder(r)) / "verdicts.json", none); });
  course.to_keep = static_cast<std::int64_t>(kept->size());
  in_workers(
      kept->size(), jobs,
      [&](std::size_t i) { return do_case(wish, cases->at((*kept)[i].number), folder((*kept)[i])); },
      [&](std::size_t i, Piece& piece) {
        const CaseResult& first = (*kept)[i];
        CaseResult again = described(wish, cases->at(first.number));
        read_case(piece, again);
        if (again.outcome != kNotRun) ++course.kept;
        if (!unlike(first, again).empty()) list_on(course.unlike, std::to_string(first.number));
        piece.said.clear();
        const bool more = heard(course);
        course.stopped = course.stopped || !more;
        return more;
      });
  return course;
}

}  // namespace isodyne::session
