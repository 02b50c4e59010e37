// What packing and unpacking a frame of 64 words with 300 fields costs, against shifts and masks written out by hand in
// C with every number a constant. Prints Markdown. Exit status 1 if the bound of docs/performance.md is missed.

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <vector>

#include <dlfcn.h>
#include <stdlib.h>
#include <unistd.h>

#include <fmt/format.h>

#include "isodyne/core/random.h"
#include "isodyne/io/frame.h"

using namespace isodyne;

namespace {

using Clock = std::chrono::steady_clock;
constexpr int kWords = 64, kFields = 300;

/// Four or five fields in each word, of all widths and both signs; what is left of a word is spare.
program::Frame some_frame(bool bytes_from_high) {
  program::Frame frame;
  frame.words = kWords;
  frame.bytes_from_high = bytes_from_high;
  RandomStream random(1, "frame");
  for (int i = 0; i < kFields; ++i) {
    const int word = i * kWords / kFields;
    const bool first = frame.fields.empty() || frame.fields.back().bits.word != word;
    const int from = first ? 0 : frame.fields.back().bits.shift + frame.fields.back().bits.width;
    program::FrameField f;
    f.bits = {word, from, 1 + static_cast<int>(random.uniform() * 12)};
    f.is_signed = f.bits.width > 1 && random.uniform() < 0.5;
    frame.fields.push_back(f);
  }
  return frame;
}

std::string by_hand(const program::Frame& frame) {
  std::string pack = "void pack(const double *v, unsigned char *b) {\n  uint64_t w;\n";
  std::string unpack = "void unpack(const unsigned char *b, double *v) {\n  uint64_t w;\n";
  const char* swap = frame.bytes_from_high ? "  w = __builtin_bswap64(w);\n" : "";
  for (int w = 0; w < frame.words; ++w) {
    std::string parts;
    unpack += fmt::format("  memcpy(&w, b + {}, 8);\n{}", 8 * w, swap);
    for (std::size_t i = 0; i < frame.fields.size(); ++i) {
      const program::FrameField& f = frame.fields[i];
      if (f.bits.word != w) continue;
      const std::uint64_t mask = (std::uint64_t{1} << f.bits.width) - 1;
      parts += fmt::format("{}((uint64_t)(int64_t)v[{}] & 0x{:x}u) << {}", parts.empty() ? "" : " | ", i, mask,
                           f.bits.shift);
      const int up = 64 - f.bits.shift - f.bits.width, down = 64 - f.bits.width;
      unpack += f.is_signed ? fmt::format("  v[{}] = (double)((int64_t)(w << {}) >> {});\n", i, up, down)
                            : fmt::format("  v[{}] = (double)(int64_t)(w >> {} & 0x{:x}u);\n", i, f.bits.shift, mask);
    }
    pack += fmt::format("  w = {};\n{}  memcpy(b + {}, &w, 8);\n", parts, swap, 8 * w);
  }
  return "#include <stdint.h>\n#include <string.h>\n" + pack + "}\n" + unpack + "}\n";
}

struct Hand {
  void (*pack)(const double*, unsigned char*) = nullptr;
  void (*unpack)(const unsigned char*, double*) = nullptr;
};

Hand compile(const std::string& text) {
  std::string folder = "/tmp/isodyne-XXXXXX";
  Hand hand;
  if (mkdtemp(folder.data()) == nullptr) return hand;
  std::ofstream(folder + "/hand.c") << text;
  const std::string command = fmt::format("cc -O2 -shared -fPIC -o {0}/hand.so {0}/hand.c", folder);
  if (std::system(command.c_str()) != 0) return hand;
  void* library = dlopen((folder + "/hand.so").c_str(), RTLD_NOW);
  if (library == nullptr) return hand;
  const auto take = [&](const char* name, auto& function) {
    void* symbol = dlsym(library, name);
    std::memcpy(&function, &symbol, sizeof symbol);
  };
  take("pack", hand.pack);
  take("unpack", hand.unpack);
  unlink((folder + "/hand.c").c_str());
  unlink((folder + "/hand.so").c_str());
  rmdir(folder.c_str());
  return hand;
}

struct Timing {
  std::vector<double> ratios;
  double ours = 0, hand = 0;
  void add(double a, double b) {
    ratios.push_back(a / b);
    ours = a;
    hand = b;
  }
  double median() {
    std::sort(ratios.begin(), ratios.end());
    return ratios[ratios.size() / 2];
  }
};

double per_call(Clock::time_point begin, Clock::time_point end, int calls) {
  return std::chrono::duration<double, std::nano>(end - begin).count() / calls;
}

bool compare(bool bytes_from_high) {
  const program::Frame frame = some_frame(bytes_from_high);
  const Hand hand = compile(by_hand(frame));
  if (hand.pack == nullptr || hand.unpack == nullptr) {
    std::fputs("the C by hand does not compile\n", stderr);
    return false;
  }
  const io::FrameCodec codec(frame);
  std::vector<double> values(kFields), back(kFields);
  std::vector<std::byte> bytes(codec.bytes());
  std::vector<unsigned char> other(codec.bytes());
  RandomStream random(2, "values");
  Timing packing, unpacking;
  constexpr int kCalls = 20'000;
  for (int turn = 0; turn < 21; ++turn) {
    for (int i = 0; i < kFields; ++i) {
      const program::FrameField& f = frame.fields[static_cast<std::size_t>(i)];
      const auto span = static_cast<double>(std::uint64_t{1} << f.bits.width);
      values[static_cast<std::size_t>(i)] = std::floor(random.uniform() * span) - (f.is_signed ? span / 2 : 0);
    }
    auto a = Clock::now();
    for (int n = 0; n < kCalls; ++n) {
      codec.pack(values, bytes.data());
      asm volatile("" ::: "memory");
    }
    auto b = Clock::now();
    for (int n = 0; n < kCalls; ++n) {
      hand.pack(values.data(), other.data());
      asm volatile("" ::: "memory");
    }
    auto c = Clock::now();
    packing.add(per_call(a, b, kCalls), per_call(b, c, kCalls));
    if (std::memcmp(bytes.data(), other.data(), other.size()) != 0) return std::fputs("bytes differ\n", stderr), false;
    a = Clock::now();
    for (int n = 0; n < kCalls; ++n) {
      codec.unpack(bytes.data(), back);
      asm volatile("" ::: "memory");
    }
    b = Clock::now();
    if (back != values) return std::fputs("what was packed is not what comes back\n", stderr), false;
    for (int n = 0; n < kCalls; ++n) {
      hand.unpack(other.data(), back.data());
      asm volatile("" ::: "memory");
    }
    c = Clock::now();
    unpacking.add(per_call(a, b, kCalls), per_call(b, c, kCalls));
    if (back != values) return std::fputs("by hand: what was packed is not what comes back\n", stderr), false;
  }
  bool good = true;
  const auto line = [&](const char* what, Timing& t) {
    const double ratio = t.median();
    fmt::print("| {} 64 words, 300 fields, bytes from {} | {:.0f} ns | {:.0f} ns | {:.2f} | 1.20 |{}\n", what,
               bytes_from_high ? "high" : "low", t.ours, t.hand, ratio, ratio > 1.2 ? " missed |" : "  |");
    good = good && ratio <= 1.2;
  };
  line("packing", packing);
  line("unpacking", unpacking);
  return good;
}

}  // namespace

int main() {
  fmt::print("| work | Isodyne | against | ratio | bound |\n|---|---:|---:|---:|---:|\n");
  const bool low = compare(false), high = compare(true);
  return low && high ? 0 : 1;
}
