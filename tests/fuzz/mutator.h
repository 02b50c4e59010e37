#pragma once
// Somebody's file with a few things wrong: bytes that flipped, pieces that are missing, doubled or of another file,
// numbers that are no sizes. The same seed gives the same mutations.

#include <cstdint>
#include <cstring>
#include <string>
#include <string_view>
#include <vector>

#include "isodyne/core/random.h"

namespace isodyne::test {

class Mutator {
 public:
  Mutator(std::uint64_t seed, std::string_view kind) : random_(seed, std::string(kind)) {}

  std::size_t below(std::size_t n) {
    return n == 0 ? 0 : static_cast<std::size_t>(random_.uniform() * static_cast<double>(n)) % n;
  }

  std::string mutated(const std::vector<std::string>& seeds) {
    std::string text = seeds[below(seeds.size())];
    for (std::size_t times = 1 + below(4); times > 0; --times) once(text, seeds);
    if (text.size() > kMost) text.resize(kMost);
    return text;
  }

 private:
  static constexpr std::size_t kMost = 1 << 20;

  void once(std::string& text, const std::vector<std::string>& seeds) {
    static const char* const kPieces[] = {"-1",
                                          "1e308",
                                          "nan",
                                          "18446744073709551615",
                                          "0",
                                          "\"",
                                          "{",
                                          "}",
                                          "(((((((((",
                                          "[[[[[[[[[",
                                          "\\u0000",
                                          "\n",
                                          "\r",
                                          ",",
                                          ";",
                                          "\xff\xfe",
                                          "\x1b[2J",
                                          "%s%n",
                                          "<!--",
                                          "..",
                                          "^",
                                          "do ",
                                          "use ",
                                          "$var ",
                                          "/../../etc/passwd",
                                          "=cmd",
                                          "1 ^ 1 ^ 1",
                                          "\xc3"};
    const std::size_t at = below(text.size() + 1), length = below(std::min<std::size_t>(text.size() - at + 1, 64));
    switch (below(8)) {
      case 0:  // a bit
        if (at < text.size()) text[at] = static_cast<char>(text[at] ^ (1 << below(8)));
        break;
      case 1:  // a byte
        if (at < text.size()) text[at] = static_cast<char>(below(256));
        break;
      case 2:  // a piece is missing
        text.erase(at, length);
        break;
      case 3:  // a piece is there twice
        text.insert(at, text.substr(at, length));
        break;
      case 4: {  // a piece of another one
        const std::string& other = seeds[below(seeds.size())];
        text.insert(at, other.substr(below(other.size() + 1), 64));
        break;
      }
      case 5:
        text.insert(at, kPieces[below(std::size(kPieces))]);
        break;
      case 6: {  // a number that is no size
        static const std::uint64_t kNumbers[] = {0,          1,          0x7f,       0x80,  0xff,      0xffff,
                                                 0x7fffffff, 0x80000000, 0xffffffff, ~0ull, 1ull << 40};
        const std::uint64_t number = kNumbers[below(std::size(kNumbers))];
        const std::size_t bytes = std::size_t{1} << below(4);
        if (at + bytes <= text.size()) std::memcpy(text.data() + at, &number, bytes);
        break;
      }
      default:  // it ends too early
        if (below(4) == 0) text.resize(at);
    }
  }

  RandomStream random_;
};

}  // namespace isodyne::test
