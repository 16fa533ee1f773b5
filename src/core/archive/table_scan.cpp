#include "archive/table_scan.h"

#include "base/text.h"

namespace hambrel::archive {

namespace {

/// Reads from the start of a text; each function says whether it found what it was asked for, and goes on behind that.
class Scanner {
 public:
  explicit Scanner(std::string_view text) : at_(text.data()), end_(text.data() + text.size()) {}

  std::string_view rest() const { return {at_, static_cast<std::size_t>(end_ - at_)}; }

  bool literally(std::string_view wanted) {
    if (!rest().starts_with(wanted)) return false;
    at_ += wanted.size();
    return true;
  }

  bool number(std::uint64_t& value, std::uint64_t most = UINT64_MAX) {
    constexpr int kDigits = 18;  // so many never overflow
    const char* const first = at_;
    value = 0;
    while (at_ < end_ && *at_ >= '0' && *at_ <= '9' && at_ - first < kDigits)
      value = value * 10 + static_cast<std::uint64_t>(*at_++ - '0');
    const bool whole = at_ == end_ || *at_ < '0' || *at_ > '9';
    return at_ > first && whole && (*first != '0' || at_ - first == 1) && value <= most;
  }

  /// Up to the quote that ends it.
  bool text(std::string_view& value) {
    const char* const first = at_;
    bool foreign = false;  // bytes of other alphabets
    for (; at_ < end_ && *at_ != '"'; ++at_) {
      if (static_cast<unsigned char>(*at_) < 0x20 || *at_ == '\\') return false;
      foreign = foreign || static_cast<unsigned char>(*at_) >= 0x80;
    }
    value = {first, static_cast<std::size_t>(at_ - first)};
    return literally("\"") && (!foreign || is_utf8(value));
  }

  bool digest(Digest& digest) {
    constexpr std::size_t kDigits = 2 * sizeof digest.bytes;
    if (!literally(",\"sha256\":\"")) return false;
    const auto read = Digest::from_hex(rest().substr(0, kDigits));
    if (!read) return false;
    digest = *read;
    at_ += kDigits;
    return literally("\"");
  }

  bool frame(Frame& frame) {
    return literally("{\"offset\":") && number(frame.offset) && literally(",\"plain\":") && number(frame.plain_size) &&
           digest(frame.digest) && literally(",\"size\":") && number(frame.size) && literally("}");
  }

  bool entry(Entry& entry) {
    std::uint64_t number_read = 0;
    std::string_view text_read;
    const auto short_number = [&](std::uint32_t& value, std::uint64_t most) {
      if (!number(number_read, most)) return false;
      value = static_cast<std::uint32_t>(number_read);
      return true;
    };
    const auto kept_text = [&](std::string& value) {
      if (!text(text_read)) return false;
      value = text_read;
      return true;
    };
    if (!literally("{\"")) return false;
    if (literally("config\":true,\"")) entry.config = true;
    const bool file = literally("frame\":");
    if (file && !(short_number(entry.frame, UINT32_MAX) && literally(",\""))) return false;
    if (!(literally("group\":\"") && kept_text(entry.group) && literally(",\"mode\":") &&
          short_number(entry.mode, kMostMode) && literally(",\"mtime\":") && number(number_read, kMostTime)))
      return false;
    entry.mtime = static_cast<std::int64_t>(number_read);
    if (file && !(literally(",\"offset\":") && number(entry.offset))) return false;
    if (!(literally(",\"path\":\"") && kept_text(entry.path))) return false;
    if (file && !(digest(entry.digest) && literally(",\"size\":") && number(entry.size))) return false;
    const bool link = !file && literally(",\"target\":\"");
    if (link && !kept_text(entry.target)) return false;
    if (!(literally(",\"type\":\"") && text(text_read))) return false;
    if (file && text_read == "file")
      entry.type = EntryType::File;
    else if (link && text_read == "symlink")
      entry.type = EntryType::Symlink;
    else if (link && text_read == "hardlink")
      entry.type = EntryType::HardLink;
    else if (!file && !link && text_read == "directory")
      entry.type = EntryType::Directory;
    else
      return false;
    return literally(",\"user\":\"") && kept_text(entry.user) && literally("}");
  }

 private:
  const char *at_, *end_;
};

}  // namespace

std::optional<Table> scan_table(std::string_view text,
                                const std::function<std::optional<Entry>(std::string_view)>& read_other) {
  constexpr std::size_t kShortEntry = 200;  // bytes: most are longer
  Scanner scanner(text);
  Table table;
  table.entries.reserve(text.size() / kShortEntry);
  if (!scanner.literally("{\"entries\":[")) return std::nullopt;
  do {
    if (table.entries.size() == kMostEntries) return std::nullopt;
    const std::string_view from = scanner.rest();
    if (scanner.entry(table.entries.emplace_back())) continue;
    // no text holds these ends: a quote in it is escaped
    const std::string_view whole = from.substr(0, from.find("},{\""));
    const std::string_view object = from.substr(0, whole.find("}],\"")).substr(0, whole.size());
    auto other = object.size() < from.size() ? read_other(from.substr(0, object.size() + 1)) : std::nullopt;
    if (!other) return std::nullopt;
    table.entries.back() = std::move(*other);
    scanner = Scanner(from.substr(object.size() + 1));
  } while (scanner.literally(","));
  table.entries.shrink_to_fit();  // many tables are kept at once
  if (!scanner.literally("],\"frames\":[")) return std::nullopt;
  do {
    if (!scanner.frame(table.frames.emplace_back())) return std::nullopt;
  } while (scanner.literally(","));
  const bool ended = scanner.literally("],\"manifest\":{\"offset\":") && scanner.number(table.manifest_offset) &&
                     scanner.literally(",\"size\":") && scanner.number(table.manifest_size) &&
                     scanner.literally("}}") && scanner.rest().empty();
  return ended ? std::optional(std::move(table)) : std::nullopt;
}

}  // namespace hambrel::archive
