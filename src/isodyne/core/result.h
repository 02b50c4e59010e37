#pragma once
// The must-check result of an operation on a file, a socket, a library or a program.
//
// A Failure says what was tried, on which file or peer, and the system's reason; it is meant to be printed
// as it is. It is not for mistakes in the engineer's text (see diagnostics.h) and not for the stepping
// thread, where failures become counters and records.

#include <string>
#include <utility>
#include <variant>

namespace isodyne {

struct Failure {
  /// Whose matter it is: what was asked for cannot be, or something went wrong on the way.
  enum class Kind { trouble, wrong_input };
  std::string operation;  ///< "cannot write the recording"
  std::string subject;    ///< the file or peer; may be empty
  std::string reason;     ///< "No space left on device"; may be empty
  Kind kind = Kind::trouble;

  /// "cannot write the recording runs/1/recording.h5: No space left on device"
  std::string text() const {
    std::string all = operation;
    if (!subject.empty()) all += " " + subject;
    if (!reason.empty()) all += ": " + reason;
    return all;
  }
};

/// A value or the Failure that prevented it.
template <typename T>
class [[nodiscard]] Result {
 public:
  Result(T value) : content_(std::move(value)) {}
  Result(Failure failure) : content_(std::move(failure)) {}
  explicit operator bool() const { return std::holds_alternative<T>(content_); }
  T& operator*() { return std::get<T>(content_); }
  const T& operator*() const { return std::get<T>(content_); }
  T* operator->() { return &std::get<T>(content_); }
  const T* operator->() const { return &std::get<T>(content_); }
  const Failure& failure() const { return std::get<Failure>(content_); }

 private:
  std::variant<T, Failure> content_;
};

struct Done {};
using Status = Result<Done>;

}  // namespace isodyne
