#include "repo/index_delta.h"

#include <fmt/format.h>

#include <map>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/text.h"

namespace hambrel::repo {

namespace {

constexpr std::uint64_t kDeltaFormat = 1;
constexpr int kDeltaLevel = 9;

[[noreturn]] void does_not_fit(const std::string& where) {
  throw Error(ErrorCode::Untrusted, "does not match its index", where,
              "run `hambrel refresh`; if this persists, tell the repository's maintainer");
}

struct Header {
  Digest from, to;
  std::uint64_t lines = 0;
};

/// Nothing where it is none.
std::optional<Header> header_in(const FastObject& object) {
  if (!object.has("delta")) return std::nullopt;
  if (object.number("delta") != kDeltaFormat)
    object.wrong("delta", fmt::format("{}, which this program knows", kDeltaFormat));
  const auto from = Digest::from_hex(object.text("from")), to = Digest::from_hex(object.text("to"));
  if (!from || !to) object.wrong("from", "64 hexadecimal digits");
  return Header{*from, *to, object.number("lines")};
}

/// Only as much is unpacked as the first line needs.
Header header_of(std::string_view delta, const std::string& where) {
  struct Enough {};
  std::string text;
  try {
    archive::decompress_in_pieces(delta, archive::most_plain(delta.size()), where, [&](std::string_view piece) {
      text += piece;
      if (text.find('\n') != std::string::npos) throw Enough();
    });
  } catch (const Enough&) {  // the rest is not asked for
    text.resize(text.find('\n'));
  }
  JsonReader reader;
  const auto header = header_in(reader.parse(text, where));
  if (!header) does_not_fit(where);
  return *header;
}

/// What a delta does to one line.
struct Change {
  RawIndexLine line;  // of one that is gone: only what it is found by
  bool drops = false;
};

struct Order {
  bool operator()(const IndexLine& a, const IndexLine& b) const { return precedes(a, b); }
};

/// The changes of all deltas together, the last one of each line.
class Changes {
 public:
  void add(std::string_view delta, const std::string& where) {
    std::optional<Header> header;
    read_index(
        delta, where,
        [&](RawIndexLine&& line) {
          Change change;
          change.line = std::move(line);
          put(std::move(change));
        },
        [&](const FastObject& object) {
          if (const auto found = header_in(object)) {
            header = found;
            return true;
          }
          if (!object.flag_or("drop", false)) return false;
          Change change;
          change.drops = true;
          Package& package = change.line.line.package;
          package.name = object.text("name");
          const auto version = Version::parse(object.text("version"));
          if (!version) object.wrong("version", "a version");
          package.version = *version;
          package.arch = object.text("arch");
          put(std::move(change));
          return true;
        });
    if (!header) does_not_fit(where);
    lines_ = header->lines;
  }
  std::uint64_t lines() const { return lines_; }

  /// Gives all that come before this one.
  void give_before(const IndexLine* line, const std::function<void(RawIndexLine&&)>& take) {
    while (next_ != all_.end() && (line == nullptr || precedes(next_->first, *line))) {
      if (!next_->second.drops) take(std::move(next_->second.line));
      ++next_;
    }
  }
  /// Is this line another one now, or gone? Then that is given in its place.
  bool replaces(const IndexLine& line, const std::function<void(RawIndexLine&&)>& take) {
    if (next_ == all_.end() || precedes(line, next_->first)) return false;
    if (!next_->second.drops) take(std::move(next_->second.line));
    ++next_;
    return true;
  }
  void rewind() { next_ = all_.begin(); }

 private:
  static IndexLine key_of(const IndexLine& line) {
    IndexLine key;
    key.package.name = line.package.name;
    key.package.version = line.package.version;
    key.package.arch = line.package.arch;
    return key;
  }
  void put(Change change) {
    IndexLine key = key_of(change.line.line);
    all_.insert_or_assign(std::move(key), std::move(change));
  }

  std::map<IndexLine, Change, Order> all_;
  std::map<IndexLine, Change, Order>::iterator next_;
  std::uint64_t lines_ = 0;
};

}  // namespace

std::vector<WrittenLine> written_lines(std::string_view text, const std::string& where) {
  std::vector<IndexLine> lines = parse_index(text, where);
  std::vector<WrittenLine> written;
  written.reserve(lines.size());
  for (const std::string_view one : split(text, '\n')) {
    if (one.empty()) continue;
    written.push_back({std::move(lines.at(written.size())), std::string(one)});
  }
  return written;
}

std::string make_delta(const std::vector<WrittenLine>& before, const std::vector<WrittenLine>& after,
                       const Digest& from, const Digest& to) {
  std::string text =
      canonical({{"delta", kDeltaFormat}, {"from", from.hex()}, {"lines", after.size()}, {"to", to.hex()}}) + "\n";
  auto old = before.begin();
  const auto drop = [&](const IndexLine& line) {
    text += canonical({{"arch", line.package.arch},
                       {"drop", true},
                       {"name", line.package.name},
                       {"version", line.package.version.text()}}) +
            "\n";
  };
  for (const WrittenLine& one : after) {
    for (; old != before.end() && precedes(old->line, one.line); ++old) drop(old->line);
    const bool is_known = old != before.end() && !precedes(one.line, old->line);
    if (!is_known || old->text != one.text) text += one.text + "\n";
    if (is_known) ++old;
  }
  for (; old != before.end(); ++old) drop(old->line);
  return archive::compress_frame(text, kDeltaLevel);
}

void require_leads(std::string_view delta, const Digest& from, const std::optional<Digest>& to,
                   const std::string& where) {
  const Header header = header_of(delta, where);
  if (header.from != from || (to && header.to != *to)) does_not_fit(where);
}

Digest end_of_delta(std::string_view delta, const std::string& where) { return header_of(delta, where).to; }

void read_index_with(std::string_view stored, const std::vector<std::string>& deltas, const std::string& where,
                     const std::function<void(RawIndexLine&&)>& take) {
  if (deltas.empty()) return read_index(stored, where, take);
  Changes changes;
  for (const std::string& delta : deltas) changes.add(delta, where);
  changes.rewind();
  std::uint64_t lines = 0;
  const std::function<void(RawIndexLine &&)> give = [&](RawIndexLine&& line) {
    ++lines;
    take(std::move(line));
  };
  read_index(stored, where, [&](RawIndexLine&& line) {
    changes.give_before(&line.line, give);
    if (!changes.replaces(line.line, give)) give(std::move(line));
  });
  changes.give_before(nullptr, give);
  if (lines != changes.lines()) does_not_fit(where);
}

}  // namespace hambrel::repo
