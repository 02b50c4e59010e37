// What evidence costs: recording 24 signals at 1 MHz beside plain write() of the same bytes; one signal out of a large
// recording; comparing two large ones beside reading them; a figure of 6 times 10 million samples. Prints Markdown.
// Exit status 1 if a bound of docs/performance.md is missed.
//   isodyne_record_speed [PROGRAM [FOLDER]]   PROGRAM: isodyne itself, for what is measured from outside

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <filesystem>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "isodyne/record/differences.h"
#include "isodyne/record/recorder.h"
#include "isodyne/record/recording.h"
#include "measure.h"

using namespace isodyne;
using namespace isodyne::measure;
namespace fs = std::filesystem;

namespace {

constexpr int kSignals = 24;
constexpr const char* kUnits[] = {"V", "A", "m", "kg", "W", "Hz"};  // a panel for each
constexpr std::size_t kImages = 4096;                               // different ones, over and over

std::shared_ptr<const program::Program> bench_of(int signals, const std::string& form) {
  std::string text = fmt::format("bench B {{\n  step 1 us\n  record every 1 us{}\n", form);
  for (int i = 0; i < signals; ++i)
    text += fmt::format("  let s{0} : {1} = 1 {1} * sin(time * {2} rad/s)\n", i, kUnits[i % 6], 300 + i);
  return checked(text + "}\n");
}

/// Images as a run would have them, so that only recording is measured.
std::vector<double> images_of(const program::Program& p) {
  std::vector<double> all(kImages * p.variables.size());
  for (std::size_t i = 0; i < kImages; ++i) {
    double* image = &all[i * p.variables.size()];
    int k = 0;
    for (const program::VarId id : p.recorded.front().signals)
      image[id] = 10 * std::sin(static_cast<double>(i) * 1e-6 * (300 + 50 * k++));
  }
  return all;
}

/// Until the operating system has the bytes, and until the disk has them.
struct Took {
  double handed_over = 0, on_disk = 0;
};

double to_disk(const std::string& file) {
  const auto begin = Clock::now();
  const int descriptor = ::open(file.c_str(), O_RDONLY);
  ::fsync(descriptor);
  ::close(descriptor);
  return since(begin);
}

Took recorded_in(const std::string& file, const std::shared_ptr<const program::Program>& p,
                 const std::vector<double>& images, std::size_t rows) {
  fs::remove(file);
  record::RunIdentity identity;
  identity.main = "bench.dyne";
  identity.sources = {{"bench.dyne", "bench"}};
  auto recorder = record::Recorder::create(file, p, identity, 0);
  if (!recorder) std::exit(2);
  const auto begin = Clock::now();
  for (std::size_t r = 0; r < rows; ++r)
    (*recorder)->image({Time{static_cast<std::int64_t>(r) * 1000}, &images[r % kImages * p->variables.size()]});
  if (!(*recorder)->close(observe::Ending::completed)) std::exit(2);
  const double handed_over = since(begin);
  return {handed_over, handed_over + to_disk(file)};
}

/// The bytes of the signals alone, in large blocks.
Took write_plain(const std::string& file, std::size_t rows) {
  fs::remove(file);
  const std::vector<double> block(8192 * kSignals, 1.5);
  const auto begin = Clock::now();
  const int descriptor = ::open(file.c_str(), O_CREAT | O_WRONLY | O_TRUNC, 0644);
  for (std::size_t r = 0; r < rows; r += 8192) {
    if (::write(descriptor, block.data(), block.size() * 8) < 0) std::exit(2);
  }
  ::close(descriptor);
  const double handed_over = since(begin);
  return {handed_over, handed_over + to_disk(file)};
}

/// As a plain C program would read everything.
double read_all(const std::string& file) {
  const auto begin = Clock::now();
  const record::Handle h5(H5Fopen(file.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
  for (int i = 0; i < kSignals; ++i) {
    const record::Handle d(H5Dopen2(h5.get(), fmt::format("/signals/s{}", i).c_str(), H5P_DEFAULT), H5Dclose);
    const record::Handle space(H5Dget_space(d.get()), H5Sclose);
    std::vector<double> values(static_cast<std::size_t>(H5Sget_simple_extent_npoints(space.get())));
    H5Dread(d.get(), H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, values.data());
  }
  return since(begin);
}

double compare(const std::string& a_file, const std::string& b_file) {
  const auto begin = Clock::now();
  const auto a = record::Recording::open(a_file), b = record::Recording::open(b_file);
  if (!a || !b) std::exit(2);
  for (const std::string& name : record::names_of_both(**a, **b)) {
    if (record::difference(**a, **b, name, Time{}, {}).verdict != record::SignalDifference::Verdict::equal)
      std::exit(2);
  }
  return since(begin);
}

struct Outside {
  double seconds = 0, megabytes = 0;
};

/// A command from its start to its end, and the memory that it took.
Outside command(const std::vector<std::string>& words) {
  std::vector<char*> all;
  for (const std::string& w : words) all.push_back(const_cast<char*>(w.c_str()));
  all.push_back(nullptr);
  const auto begin = Clock::now();
  const pid_t child = ::fork();
  if (child == 0) {
    ::close(1);
    ::open("/dev/null", O_WRONLY);
    ::execv(all[0], all.data());
    ::_exit(127);
  }
  int status = 0;
  rusage usage{};
  ::wait4(child, &status, 0, &usage);
  if (status != 0) std::exit(2);
  return {since(begin), static_cast<double>(usage.ru_maxrss) / 1024};
}

}  // namespace

int main(int argc, char** argv) {
  const std::string folder = argc > 2 ? argv[2] : fs::temp_directory_path() / "isodyne_record_speed";
  fs::create_directories(folder);
  bool good = true;
  const auto line = [&](const char* work, const std::string& reached, const char* bound, bool kept) {
    fmt::print("| {} | {} | {} |{}\n", work, reached, bound, kept ? "" : " **missed**");
    std::fflush(stdout);
    good = good && kept;
  };
  fmt::print("| work | reached | bound |\n|---|---|---|\n");
  {
    constexpr std::size_t kRows = 1'500'000 / 8192 * 8192;
    const auto plain = bench_of(kSignals, ""), packed = bench_of(kSignals, " compressed");
    const std::vector<double> images = images_of(*plain);
    std::vector<double> by_write, plain_share, packed_share, plain_disk, packed_disk;
    for (int turn = 0; turn < 7; ++turn) {
      const Took w = write_plain(folder + "/w.bin", kRows), r = recorded_in(folder + "/r.h5", plain, images, kRows);
      fs::remove(folder + "/w.bin");
      const Took again = write_plain(folder + "/w.bin", kRows),
                 c = recorded_in(folder + "/c.h5", packed, images, kRows);
      by_write.push_back(static_cast<double>(kRows) / w.handed_over / 1e6);
      plain_share.push_back(w.handed_over / r.handed_over);
      packed_share.push_back(again.handed_over / c.handed_over);
      plain_disk.push_back(w.on_disk / r.on_disk);
      packed_disk.push_back(again.on_disk / c.on_disk);
    }
    const double size =
        static_cast<double>(fs::file_size(folder + "/c.h5")) / static_cast<double>(fs::file_size(folder + "/r.h5"));
    const auto share = [&](const char* work, const std::vector<double>& all, double bound) {
      const auto [low, high] = std::minmax_element(all.begin(), all.end());
      line(work, fmt::format("{:.2f} (of 7 turns {:.2f} to {:.2f})", median(all), *low, *high),
           fmt::format("{:.1f}", bound).c_str(), median(all) >= bound);
    };
    fmt::print("| plain write(), 24 signals | {:.2f} million rows a second | |\n", median(by_write));
    share("recording them, against it", plain_share, 0.8);
    share("the same until the disk has it", plain_disk, 0.8);
    share("compressed", packed_share, 0.5);
    share("the same until the disk has it", packed_disk, 0.5);
    fmt::print("| size, compressed | {:.0f} % | |\n", 100 * size);
    const auto read = record::Recording::open(folder + "/r.h5");
    line("rows lost", std::to_string(kRows - (*read)->times().size()), "0", (*read)->times().size() == kRows);
    std::vector<double> ratio;
    fs::copy_file(folder + "/r.h5", folder + "/a.h5", fs::copy_options::overwrite_existing);
    fs::remove(folder + "/r.h5");
    recorded_in(folder + "/r.h5", plain, images, 5'300'000);
    fs::copy_file(folder + "/r.h5", folder + "/a.h5", fs::copy_options::overwrite_existing);
    for (int turn = 0; turn < 5; ++turn) {
      const double reading = read_all(folder + "/a.h5") + read_all(folder + "/r.h5");
      ratio.push_back(reading / compare(folder + "/a.h5", folder + "/r.h5"));
    }
    line("comparing two of 1 GB, against reading both", fmt::format("{:.2f}", median(ratio)), "0.5",
         median(ratio) >= 0.5);
  }
  for (const char* file : {"w.bin", "c.h5", "a.h5", "r.h5"}) fs::remove(folder + "/" + file);
  if (argc > 1) {
    const auto p = bench_of(kSignals, "");
    recorded_in(folder + "/large.h5", p, images_of(*p), 10'500'000);
    std::vector<double> seconds, megabytes;
    for (int turn = 0; turn < 5; ++turn) {
      const Outside o = command({argv[1], "show", folder + "/large.h5", "s7"});
      seconds.push_back(o.seconds);
      megabytes.push_back(o.megabytes);
    }
    line("one signal of a recording of 2 GB, drawn",
         fmt::format("{:.2f} s, {:.0f} MB", median(seconds), median(megabytes)), "0.3 s, 200 MB",
         median(seconds) <= 0.3 && median(megabytes) <= 200);
    seconds.clear();
    for (int turn = 0; turn < 3; ++turn)
      seconds.push_back(command({argv[1], "figure", folder + "/large.h5", "s1", "s2", "s3", "s4", "s5", "s6", "--out",
                                 folder + "/figure"})
                            .seconds);
    line("a figure of 6 panels of 10,000,000 samples", fmt::format("{:.1f} s", median(seconds)), "5 s",
         median(seconds) <= 5);
    fs::remove(folder + "/large.h5");
  }
  return good ? 0 : 1;
}
