#include "model/version.h"

#include <algorithm>
#include <array>

#include "base/text.h"

namespace hambrel {

namespace {

constexpr std::size_t kLongest = 128;

bool is_digit(char c) { return c >= '0' && c <= '9'; }
bool is_letter(char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); }

bool is_part(std::string_view text) {
  return !text.empty() && std::all_of(text.begin(), text.end(), [](char c) {
    return is_digit(c) || is_letter(c) || c == '.' || c == '+' || c == '~' || c == '_';
  });
}

struct Token {
  int rank = 0;
  std::string_view text;  // the word, or the number without leading zeros
};

constexpr int kTilde = 0, kFirstSpecial = 1, kEnd = 6, kWord = 7, kNumber = 8;
constexpr std::array<std::string_view, 5> kSpecial{"dev", "alpha", "beta", "pre", "rc"};

/// Takes the next token off the front of `rest`.
Token next_token(std::string_view& rest) {
  while (!rest.empty() && !is_digit(rest[0]) && !is_letter(rest[0]) && rest[0] != '~') rest.remove_prefix(1);
  if (rest.empty()) return {kEnd, {}};
  if (rest[0] == '~') {
    rest.remove_prefix(1);
    return {kTilde, {}};
  }
  const bool number = is_digit(rest[0]);
  std::size_t size = 0;
  while (size < rest.size() && (number ? is_digit(rest[size]) : is_letter(rest[size]))) ++size;
  std::string_view text = rest.substr(0, size);
  rest.remove_prefix(size);
  if (number) {
    text.remove_prefix(std::min(text.find_first_not_of('0'), text.size()));
    return {kNumber, text};
  }
  const auto special = std::find(kSpecial.begin(), kSpecial.end(), lower(text));
  if (special != kSpecial.end()) return {kFirstSpecial + static_cast<int>(special - kSpecial.begin()), {}};
  return {kWord, text};
}

int compare_parts(std::string_view a, std::string_view b) {
  for (;;) {
    const Token x = next_token(a), y = next_token(b);
    if (x.rank != y.rank) return x.rank < y.rank ? -1 : 1;
    if (x.rank == kEnd) return 0;
    if (x.rank == kNumber && x.text.size() != y.text.size()) return x.text.size() < y.text.size() ? -1 : 1;
    if (const int order = x.text.compare(y.text); order != 0) return order;
  }
}

}  // namespace

std::optional<Version> Version::parse(std::string_view text) {
  if (text.size() > kLongest) return std::nullopt;
  Version version;
  version.text_ = text;
  std::string_view rest = text;
  if (const auto colon = rest.find(':'); colon != std::string_view::npos) {
    const auto epoch = parse_number(rest.substr(0, colon));
    if (!epoch || colon > 9) return std::nullopt;
    version.epoch_ = static_cast<std::uint32_t>(*epoch);
    version.upstream_at_ = colon + 1;
    rest.remove_prefix(colon + 1);
  }
  if (const auto dash = rest.find('-'); dash != std::string_view::npos) {
    if (!is_part(rest.substr(dash + 1))) return std::nullopt;
    version.revision_at_ = version.upstream_at_ + dash + 1;
    rest = rest.substr(0, dash);
  }
  if (!is_part(rest)) return std::nullopt;
  return version;
}

std::string_view Version::upstream() const {
  const std::size_t end = has_revision() ? revision_at_ - 1 : text_.size();
  return std::string_view(text_).substr(upstream_at_, end - upstream_at_);
}

std::string_view Version::revision() const {
  return has_revision() ? std::string_view(text_).substr(revision_at_) : std::string_view();
}

int Version::compare_keys(const Version& a, const Version& b, bool with_revision) {
  return compare_versions(a.text_, b.text_, with_revision);
}

std::strong_ordering Version::operator<=>(const Version& other) const {
  return order_versions(text_, other.text_) <=> 0;
}

namespace {

struct Parts {
  std::string_view epoch, upstream, revision;  // the epoch without leading zeros
};

Parts parts_of(std::string_view text) {
  Parts parts;
  if (const auto colon = text.find(':'); colon != std::string_view::npos) {
    parts.epoch = text.substr(0, colon);
    parts.epoch.remove_prefix(std::min(parts.epoch.find_first_not_of('0'), parts.epoch.size()));
    text.remove_prefix(colon + 1);
  }
  const auto dash = text.find('-');
  parts.upstream = text.substr(0, dash);
  if (dash != std::string_view::npos) parts.revision = text.substr(dash + 1);
  return parts;
}

}  // namespace

int compare_versions(std::string_view a, std::string_view b, bool with_revision) {
  if (a == b) return 0;
  const Parts x = parts_of(a), y = parts_of(b);
  if (x.epoch != y.epoch) {
    if (x.epoch.size() != y.epoch.size()) return x.epoch.size() < y.epoch.size() ? -1 : 1;
    return x.epoch < y.epoch ? -1 : 1;
  }
  if (const int order = compare_parts(x.upstream, y.upstream); order != 0) return order;
  return with_revision ? compare_parts(x.revision, y.revision) : 0;
}

int order_versions(std::string_view a, std::string_view b) {
  if (const int order = compare_versions(a, b); order != 0) return order;
  return a.compare(b);
}

}  // namespace hambrel
