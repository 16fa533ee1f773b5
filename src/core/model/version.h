// Versions and their order.
//
//   VERSION  := [EPOCH ':'] UPSTREAM ['-' REVISION]
//   EPOCH    := digits            UPSTREAM, REVISION := one or more of [A-Za-z0-9.+~_]
//
// UPSTREAM and REVISION are read as tokens: a run of digits, a run of letters, or '~'; other characters only separate.
// At each place  '~' < dev < alpha < beta < pre < rc < the end < any other word < a number;  words by bytes (the five
// special ones in any case of letters), numbers by value at any length. Epochs first (none is 0), then UPSTREAM, then
// REVISION. Texts that are equal by this key are ordered by their bytes, so that the order is total on distinct texts;
// constraints compare by the key alone.
#pragma once

#include <compare>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace hambrel {

class Version {
 public:
  Version() = default;  // the empty version, below all others; only a placeholder
  /// Nothing unless the text follows the grammar; at most 128 bytes, epoch at most 9 digits.
  static std::optional<Version> parse(std::string_view text);

  const std::string& text() const { return text_; }
  bool has_revision() const { return revision_at_ != std::string::npos; }
  std::uint32_t epoch() const { return epoch_; }
  std::string_view upstream() const;
  std::string_view revision() const;

  /// Order by the key: negative, zero or positive. Without `with_revision` the revisions are not looked at.
  static int compare_keys(const Version& a, const Version& b, bool with_revision = true);

  std::strong_ordering operator<=>(const Version& other) const;
  bool operator==(const Version& other) const { return text_ == other.text_; }

 private:
  std::string text_;
  std::uint32_t epoch_ = 0;
  std::size_t upstream_at_ = 0;
  std::size_t revision_at_ = std::string::npos;
};

/// Order by the key, from the texts of two valid versions: negative, zero or positive.
int compare_versions(std::string_view a, std::string_view b, bool with_revision = true);
/// The total order, from the texts of two valid versions.
int order_versions(std::string_view a, std::string_view b);

}  // namespace hambrel
