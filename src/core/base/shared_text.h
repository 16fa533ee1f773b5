// Text that never changes and is held in many places: each place takes a pointer, and all of them one copy.
#pragma once

#include <fmt/core.h>

#include <atomic>
#include <compare>
#include <concepts>
#include <cstdint>
#include <string>
#include <string_view>
#include <utility>

namespace hambrel {

/// As large as a pointer. Copies share the text and may be made, read and dropped by several threads at once; one
/// object is for one thread at a time, as everything is. Up to 4 GiB.
class SharedText {
 public:
  SharedText() = default;                                                                  // empty
  SharedText(std::string_view text) : held_(text.empty() ? nullptr : Held::make(text)) {}  // NOLINT: converts as text
  SharedText(const std::string& text) : SharedText(std::string_view(text)) {}              // NOLINT
  SharedText(const char* text) : SharedText(std::string_view(text)) {}                     // NOLINT
  SharedText(const SharedText& other) noexcept : held_(other.held_) {
    if (held_ != nullptr) held_->users.fetch_add(1, std::memory_order_relaxed);
  }
  SharedText(SharedText&& other) noexcept : held_(std::exchange(other.held_, nullptr)) {}
  SharedText& operator=(SharedText other) noexcept {
    std::swap(held_, other.held_);
    return *this;
  }
  ~SharedText() {
    if (held_ != nullptr && held_->users.fetch_sub(1, std::memory_order_acq_rel) == 1) Held::drop(held_);
  }

  /// Valid while one of those that share it is there.
  std::string_view view() const {
    return held_ == nullptr ? std::string_view() : std::string_view(held_->text(), held_->size);
  }
  operator std::string_view() const { return view(); }  // NOLINT: it is text
  std::string string() const { return std::string(view()); }
  bool empty() const { return held_ == nullptr; }

  /// For texts that come in a row, most of them like the one before: that one is shared where it is the same.
  SharedText like(std::string_view text) const { return view() == text ? *this : SharedText(text); }

  friend bool operator==(const SharedText& a, const SharedText& b) {
    return a.held_ == b.held_ || a.view() == b.view();
  }
  friend auto operator<=>(const SharedText& a, const SharedText& b) { return a.view() <=> b.view(); }
  template <std::convertible_to<std::string_view> Text>
  friend bool operator==(const SharedText& a, const Text& b) {
    return a.view() == std::string_view(b);
  }
  template <std::convertible_to<std::string_view> Text>
  friend auto operator<=>(const SharedText& a, const Text& b) {
    return a.view() <=> std::string_view(b);
  }

 private:
  /// Followed by the characters.
  struct Held {
    std::atomic<std::uint32_t> users;
    std::uint32_t size;

    char* text() { return reinterpret_cast<char*>(this + 1); }
    static Held* make(std::string_view text);
    static void drop(Held* held);
  };

  Held* held_ = nullptr;  // null: empty
};

}  // namespace hambrel

template <>
struct fmt::formatter<hambrel::SharedText> : fmt::formatter<fmt::string_view> {
  template <typename Context>
  auto format(const hambrel::SharedText& text, Context& context) const {
    const std::string_view view = text.view();
    return fmt::formatter<fmt::string_view>::format({view.data(), view.size()}, context);
  }
};
