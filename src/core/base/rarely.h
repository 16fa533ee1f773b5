// Values that most objects of a kind do not have: each takes a pointer, and memory of its own only where it is there.
#pragma once

#include <memory>
#include <string>
#include <string_view>
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
  void reset() { value_.reset(); }

 private:
  std::unique_ptr<T> value_;
};

/// A text that is mostly empty.
class RareText {
 public:
  RareText() = default;
  RareText(std::string text) {  // NOLINT: converts
    if (!text.empty()) text_ = Rarely<std::string>(std::move(text));
  }
  RareText(std::string_view text) : RareText(std::string(text)) {}  // NOLINT: converts
  RareText(const char* text) : RareText(std::string(text)) {}       // NOLINT: converts

  bool empty() const { return !text_; }
  void clear() { text_.reset(); }
  const std::string& text() const {
    static const std::string none;
    return text_ ? *text_ : none;
  }
  operator const std::string&() const { return text(); }  // NOLINT: converts

 private:
  Rarely<std::string> text_;
};

}  // namespace hambrel
