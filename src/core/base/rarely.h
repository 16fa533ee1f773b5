// Values that most objects of a kind do not have: each takes a pointer, and memory of its own only where it is there.
#pragma once

#include <memory>
#include <utility>

namespace hambrel {

/// Like std::optional, but as large as a pointer. Copies are deep.
template <typename T>
class Rarely {
 public:
  Rarely() = default;
  Rarely(T value) : value_(std::make_unique<T>(std::move(value))) {}  // NOLINT: converts as std::optional does
  Rarely(const Rarely& other) : value_(other.value_ ? std::make_unique<T>(*other.value_) : nullptr) {}
  Rarely(Rarely&&) noexcept = default;
  Rarely& operator=(Rarely other) noexcept {
    value_ = std::move(other.value_);
    return *this;
  }
  ~Rarely() = default;

  explicit operator bool() const { return value_ != nullptr; }
  const T& operator*() const { return *value_; }
  const T* operator->() const { return value_.get(); }
  /// To be changed; made first where there is none.
  T& own() {
    if (!value_) value_ = std::make_unique<T>();
    return *value_;
  }

 private:
  std::unique_ptr<T> value_;
};

}  // namespace hambrel
