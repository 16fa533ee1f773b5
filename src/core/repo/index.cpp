#include "repo/index.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/pipe.h"
#include "base/text.h"
#include "model/manifest.h"

namespace hambrel::repo {

namespace {

constexpr std::uint64_t kMostTable = 64ULL << 20;  // bytes, compressed: of a million entries

Digest digest_of(const FastObject& object) {
  const auto digest = Digest::from_hex(object.view("sha256"));
  if (!digest) object.wrong("sha256", "64 hexadecimal digits");
  return *digest;
}

/// All but the package, which is in `line` already.
void read_offer(const FastObject& whole, IndexLine& line) {
  const FastObject object = whole.named(line.package.name);
  line.channel = object.view("channel");
  if (!is_package_name(line.channel)) object.wrong("channel", "the name of a channel");
  const FastObject file = object.object("file"), table = file.object("table");
  line.size = file.number("size");
  line.digest = digest_of(file);
  line.table_offset = table.number("offset");
  line.table_size = table.number("size");
  line.table_digest = digest_of(table);
  const bool inside = line.table_offset < line.size && line.table_size <= line.size - line.table_offset;
  if (!inside || line.table_size > kMostTable) object.wrong("file", "one that holds its table of contents");
}

}  // namespace

bool precedes(const IndexLine& a, const IndexLine& b) {
  if (a.package.name != b.package.name) return a.package.name < b.package.name;
  if (a.package.version != b.package.version) return a.package.version > b.package.version;
  return a.package.arch < b.package.arch;
}

std::string line_text(const IndexLine& line) {
  Json object = package_to_json(line.package);
  object["channel"] = line.channel;
  object["file"] = {
      {"size", line.size},
      {"sha256", line.digest.hex()},
      {"table", {{"offset", line.table_offset}, {"size", line.table_size}, {"sha256", line.table_digest.hex()}}}};
  return canonical(object);
}

std::string index_text(const std::vector<IndexLine>& lines) {
  std::vector<const IndexLine*> sorted;
  for (const IndexLine& line : lines) sorted.push_back(&line);
  std::sort(sorted.begin(), sorted.end(), [](const IndexLine* a, const IndexLine* b) { return precedes(*a, *b); });
  std::string text;
  for (const IndexLine* line : sorted) text += line_text(*line) + "\n";
  return text;
}

namespace {

/// Cuts text that comes in pieces into lines and parses each.
class LineReader {
 public:
  LineReader(std::string where, const std::function<void(const FastObject&)>& take)
      : where_(std::move(where)), take_(take) {}

  void add(std::string_view piece) {
    for (auto end = piece.find('\n'); end != std::string_view::npos; end = piece.find('\n')) {
      if (rest_.empty()) {
        line(piece.substr(0, end));
      } else {
        rest_.append(piece.substr(0, end));
        line(rest_);
        rest_.clear();
      }
      piece.remove_prefix(end + 1);
    }
    rest_.append(piece);
    if (rest_.size() > kMostLine)
      throw Error(ErrorCode::Invalid, fmt::format("a line is longer than {} bytes", kMostLine), where_);
  }
  void finish() {
    if (!rest_.empty()) line(rest_);
  }

 private:
  static constexpr std::size_t kMostLine = 2 << 20;

  void line(std::string_view text) { take_(reader_.parse(text, where_, ++number_)); }

  std::string where_;
  const std::function<void(const FastObject&)>& take_;
  JsonReader reader_;
  std::string rest_;
  std::size_t number_ = 0;
};

constexpr std::uint64_t kMostPlainIndex = 2ULL << 30;

}  // namespace

std::vector<IndexLine> parse_index(std::string_view text, const std::string& where) {
  std::vector<IndexLine> lines;
  const std::function<void(const FastObject&)> take = [&](const FastObject& object) {
    IndexLine& line = lines.emplace_back();
    line.package = package_from_json(object);
    read_offer(object, line);
  };
  LineReader reader(where, take);
  reader.add(text);
  reader.finish();
  return lines;
}

void read_index(std::string_view stored, const std::string& where, const std::function<void(RawIndexLine&&)>& take,
                const std::function<bool(const FastObject&)>& other) {
  RawIndexLine one;
  const std::function<void(const FastObject&)> take_object = [&](const FastObject& object) {
    if (other && other(object)) return;
    read_without_relations(object, one.line.package, one.relations);
    read_offer(object, one.line);
    take(std::move(one));
  };
  LineReader reader(where, take_object);
  Pipe<std::string> pieces(4, [&](Pipe<std::string>& made) {
    archive::decompress_in_pieces(stored, std::min(kMostPlainIndex, archive::most_plain(stored.size())), where,
                                  [&](std::string_view piece) { made.give(std::string(piece)); });
  });
  while (const auto piece = pieces.take()) reader.add(*piece);
  reader.finish();
}

std::string package_directory(std::string_view name) {
  if (!name.starts_with(kGroup)) return std::string(name);
  return "+group." + std::string(name.substr(kGroup.size()));
}

std::string package_path(const Package& package) {
  return fmt::format("packages/{}/{}.{}.hambrel", package_directory(package.name), package.version.text(),
                     package.arch);
}

std::string package_url_path(const Package& package) {
  return fmt::format("packages/{}/{}.{}.hambrel", url_segment(package_directory(package.name)),
                     url_segment(package.version.text()), package.arch);
}

}  // namespace hambrel::repo
