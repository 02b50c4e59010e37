#pragma once
// An open file or socket.

#include <utility>

#include <unistd.h>

namespace isodyne {

/// A descriptor that closes itself.
class Descriptor {
 public:
  Descriptor() = default;
  explicit Descriptor(int number) : number_(number) {}
  ~Descriptor() {
    if (number_ >= 0) ::close(number_);
  }
  Descriptor(Descriptor&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
  Descriptor& operator=(Descriptor&& other) noexcept {
    if (this != &other) {
      if (number_ >= 0) ::close(number_);
      number_ = std::exchange(other.number_, -1);
    }
    return *this;
  }
  int number() const { return number_; }
  bool good() const { return number_ >= 0; }

 private:
  int number_ = -1;
};

}  // namespace isodyne
