#include <catch2/catch.hpp>

#include "isodyne/record/recorder.h"
#include "isodyne/record/recording.h"
#include "support.h"

using namespace isodyne;
using namespace isodyne::test;

namespace {

constexpr const char* kRecorded = R"(
choice Order { idle, fill }
bench B { step 1 ms
  record every 10 ms
  ## a description
  let wave : cm = 1 m * sin(time * 1 rad/s)
  input order : Order = idle
}
scenario s { hold 105 ms })";

struct Both : observe::Observer {
  record::Recorder& recorder;
  explicit Both(record::Recorder& r) : recorder(r) {}
  void image(const observe::Image& i) override { recorder.image(i); }
  void event(const observe::Event& e) override { recorder.event(e); }
};

void record_run(const std::string& file) {
  const auto p = program_of(kRecorded);
  record::RunIdentity identity;
  identity.version = "test";
  identity.scenario = "s";
  identity.faults = {"a", "b"};
  identity.seed = 18446744073709551615ULL;
  identity.main = "sub/bench.dyne";
  identity.sources = {{"sub/bench.dyne", kRecorded}, {"empty.dyne", ""}};
  auto recorder = record::Recorder::create(file, p, identity, judge::kMostImagesLate);
  REQUIRE(recorder);
  Both both(**recorder);
  bench::RunPlan plan;
  plan.scenario = 0;
  const std::atomic<bool> stop{false};
  bench::Run run(p, plan, nullptr, both);
  const auto result = run.execute(stop);
  (*recorder)->last_image(*run.last_image());
  REQUIRE((*recorder)->close(result.ending));
}

}  // namespace

TEST_CASE("What is recorded can be read back") {
  const TestFolder folder;
  record_run(folder / "r.h5");
  const auto r = record::Recording::open(folder / "r.h5");
  REQUIRE(r);
  const auto& times = (*r)->times();
  REQUIRE(times.size() == 12);  // 0, 10, … 100 ms and the last image at 105 ms
  CHECK(times[10] == 100'000'000);
  CHECK(times[11] == 105'000'000);
  const auto wave = (*r)->signal("wave");
  REQUIRE(wave);
  for (std::size_t i = 0; i < times.size(); ++i)
    CHECK((*wave)[i] == Approx(std::sin(1e-9 * static_cast<double>(times[i]))).epsilon(1e-15));
  CHECK_FALSE((*r)->signal("nothing").has_value());
  CHECK((*r)->identity().seed == 18446744073709551615ULL);
  CHECK((*r)->identity().faults == std::vector<std::string>{"a", "b"});
  CHECK((*r)->identity().main == "sub/bench.dyne");
  CHECK((*r)->ending() == "completed");
  REQUIRE((*r)->events().size() == 2);
  CHECK((*r)->events()[0].text.starts_with("hold 105 ms ("));
  const auto& sources = (*r)->identity().sources;
  REQUIRE(sources.size() == 2);
  for (const auto& [name, text] : sources) CHECK(text == (name == "empty.dyne" ? "" : kRecorded));
}

TEST_CASE("Other tools read the recording as docs/recording.md says") {
  const TestFolder folder;
  record_run(folder / "r.h5");
  folder.write("read.py", R"(
import h5py, math
f = h5py.File('r.h5')
assert f.attrs['format'].decode() == 'isodyne recording'
t = f['time_ns'][:] * 1e-9
wave = f['signals/wave']
assert wave.attrs['unit'].decode() == 'm' and wave.attrs['read_in'].decode() == 'cm' and wave.attrs['read_factor'] == 0.01
assert wave.attrs['description'].decode() == 'a description'
assert all(abs(w - math.sin(x)) < 1e-15 for w, x in zip(wave[:], t))
assert f['signals/order'].attrs['unit'].decode() == 'idle|fill'
assert f['events'][0]['kind'].decode() == 'action'
assert 'record every 10 ms' in f['sources/sub|bench.dyne'][()].decode()
)");
  const Output output = shell("/usr/bin/python3 read.py", folder.path());
  INFO(output.err);
  CHECK(output.status == 0);
}

TEST_CASE("An existing recording is not written over, and a foreign file is no recording") {
  const TestFolder folder;
  record_run(folder / "r.h5");
  CHECK_FALSE(record::Recorder::create(folder / "r.h5", program_of(kRecorded), {}, 0));
  CHECK_FALSE(record::Recording::open(folder / "missing.h5"));
  CHECK_FALSE(record::Recording::open(folder.write("text.h5", "not HDF5")));
}

TEST_CASE("Flipped bytes in a recording give an error or values, never a crash") {
  const TestFolder folder;
  record_run(folder / "r.h5");
  const std::string good = slurp(folder / "r.h5");
  RandomStream random(5, "flips");
  for (int i = 0; i < 300; ++i) {
    std::string bad = good;
    // Most of the structure is near the beginning.
    const std::size_t range = i % 2 == 0 ? std::min<std::size_t>(good.size(), 20'000) : good.size();
    for (int k = 0; k < 3; ++k) bad[random.next() % range] = static_cast<char>(random.next());
    const auto r = record::Recording::open(folder.write("bad.h5", bad));
    if (r) (void)(*r)->signal("wave");
  }
  SUCCEED();
}
