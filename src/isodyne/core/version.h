#pragma once
// The version of Isodyne, made by cmake/Version.cmake: in evidence, and in the keys of what is kept between runs.

namespace isodyne {

/// "0.2.0"; between two releases "0.2.0-5-g1a2b3c4".
extern const char* const kVersion;

}  // namespace isodyne
