#include "isodyne/io/frame_wide.h"

#include <algorithm>
#include <bit>

#if defined(__x86_64__) && defined(__GNUC__)
#include <immintrin.h>
#define ISODYNE_AVX2 __attribute__((target("avx2")))
#endif

namespace isodyne::io {

namespace {
// Beside 1.5 * 2^52, whole numbers from -2^51 to 2^51 are the last bits of a double, in two's complement: adding it
// turns one into the other. Fields of more bits are not for this file.
constexpr int kMostBits = 51;
constexpr double kBeside = 6755399441055744.0;
}  // namespace

#ifndef ISODYNE_AVX2

WideWords::WideWords(const program::Frame&, bool swap) : swap_(swap) {}
void WideWords::pack(const double*, std::byte*) const {}
void WideWords::unpack(const std::byte*, double*) const {}

#else

WideWords::WideWords(const program::Frame& frame, bool swap) : swap_(swap) {
  if (!__builtin_cpu_supports("avx2") || frame.words < 4) return;
  for (std::size_t i = 1; i < frame.fields.size(); ++i) {
    if (frame.fields[i].bits.word < frame.fields[i - 1].bits.word) return;
  }
  plan_packing(frame);
  plan_unpacking(frame);
}

void WideWords::plan_packing(const program::Frame& frame) {
  const std::size_t fields = frame.fields.size();
  std::size_t next = 0;
  for (int w = 0; w + 4 <= frame.words; w += 4) {
    Group g{};
    std::size_t end[4] = {}, most = 0;
    bool narrow = true;
    for (std::size_t j = 0; j < 4; ++j) {
      g.first[j] = static_cast<std::uint32_t>(next);
      for (; next < fields && frame.fields[next].bits.word == w + static_cast<int>(j); ++next) {
        if (frame.fields[next].bits.width > kMostBits) narrow = false;
      }
      end[j] = next;
      most = std::max(most, end[j] - g.first[j]);
    }
    g.vectors = static_cast<std::uint32_t>((most + 3) / 4);
    // Whole vectors are read: they must not reach beyond the last value.
    if (!narrow || g.first[3] + 4 * g.vectors > fields) return;
    for (std::size_t k = 0; k < g.vectors; ++k) {
      for (std::size_t j = 0; j < 4; ++j) {
        Lanes lanes;
        for (std::size_t n = 0; n < 4 && g.first[j] + 4 * k + n < end[j]; ++n) {
          const program::FrameField& f = frame.fields[g.first[j] + 4 * k + n];
          lanes.mask[n] = (std::uint64_t{1} << f.bits.width) - 1;
          lanes.shift[n] = static_cast<std::uint64_t>(f.bits.shift);
        }
        lanes_.push_back(lanes);
      }
    }
    groups_.push_back(g);
  }
}

void WideWords::plan_unpacking(const program::Frame& frame) {
  for (std::size_t i = 0; i + 4 <= frame.fields.size(); i += 4) {
    Quad q;
    const int last_start = frame.words - 4;
    q.first_word = static_cast<std::size_t>(std::min(frame.fields[i].bits.word, last_start));
    for (std::size_t n = 0; n < 4; ++n) {
      const program::FrameField& f = frame.fields[i + n];
      const int word = f.bits.word - static_cast<int>(q.first_word);
      if (word >= 4 || f.bits.width > kMostBits) return;
      q.mask[n] = (std::uint64_t{1} << f.bits.width) - 1;
      q.shift[n] = static_cast<std::uint64_t>(f.bits.shift);
      q.sign[n] = f.is_signed ? std::uint64_t{1} << (f.bits.width - 1) : 0;
      q.less_sign[n] = std::bit_cast<std::uint64_t>(kBeside) - q.sign[n];
      q.word[2 * n] = 2 * word;
      q.word[2 * n + 1] = 2 * word + 1;
    }
    quads_.push_back(q);
  }
}

namespace {

ISODYNE_AVX2 inline __m256i load(const std::uint64_t* lanes) {
  return _mm256_loadu_si256(reinterpret_cast<const __m256i*>(lanes));
}

/// The bytes of each of four words turned round.
ISODYNE_AVX2 inline __m256i turned(__m256i words) {
  return _mm256_shuffle_epi8(words, _mm256_set_epi8(8, 9, 10, 11, 12, 13, 14, 15, 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11,
                                                    12, 13, 14, 15, 0, 1, 2, 3, 4, 5, 6, 7));
}

}  // namespace

ISODYNE_AVX2 void WideWords::pack(const double* values, std::byte* bytes) const {
  const __m256d beside = _mm256_set1_pd(kBeside);
  const Lanes* lanes = lanes_.data();
  for (const Group& g : groups_) {
    __m256i word[4] = {};
    for (std::uint32_t k = 0; k < g.vectors; ++k) {
      for (std::size_t j = 0; j < 4; ++j, ++lanes) {
        const __m256i number = _mm256_castpd_si256(_mm256_add_pd(_mm256_loadu_pd(values + g.first[j] + 4 * k), beside));
        const __m256i bits = _mm256_sllv_epi64(_mm256_and_si256(number, load(lanes->mask)), load(lanes->shift));
        word[j] = _mm256_or_si256(word[j], bits);
      }
    }
    // The four lanes of each word become one, and the four words stand side by side.
    const __m256i low =
        _mm256_or_si256(_mm256_unpacklo_epi64(word[0], word[1]), _mm256_unpackhi_epi64(word[0], word[1]));
    const __m256i high =
        _mm256_or_si256(_mm256_unpacklo_epi64(word[2], word[3]), _mm256_unpackhi_epi64(word[2], word[3]));
    __m256i words =
        _mm256_or_si256(_mm256_permute2x128_si256(low, high, 0x20), _mm256_permute2x128_si256(low, high, 0x31));
    if (swap_) words = turned(words);
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(bytes), words);
    bytes += 32;
  }
}

ISODYNE_AVX2 void WideWords::unpack(const std::byte* bytes, double* values) const {
  const __m256d beside = _mm256_set1_pd(kBeside);
  for (const Quad& q : quads_) {
    __m256i words = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(bytes + 8 * q.first_word));
    if (swap_) words = turned(words);
    words = _mm256_permutevar8x32_epi32(words, _mm256_loadu_si256(reinterpret_cast<const __m256i*>(q.word)));
    __m256i bits = _mm256_and_si256(_mm256_srlv_epi64(words, load(q.shift)), load(q.mask));
    bits = _mm256_add_epi64(_mm256_xor_si256(bits, load(q.sign)), load(q.less_sign));
    _mm256_storeu_pd(values, _mm256_sub_pd(_mm256_castsi256_pd(bits), beside));
    values += 4;
  }
}

#endif

}  // namespace isodyne::io
