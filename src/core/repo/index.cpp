#include "repo/index.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/text.h"
#include "model/manifest.h"

namespace hambrel::repo {

namespace {

bool before(const IndexLine& a, const IndexLine& b) {
  if (a.package.name != b.package.name) return a.package.name < b.package.name;
  if (a.package.version != b.package.version) return a.package.version > b.package.version;
  return a.package.arch < b.package.arch;
}

Digest digest_of(const FastObject& object) {
  const auto digest = Digest::from_hex(object.text("sha256"));
  if (!digest) object.wrong("sha256", "64 hexadecimal digits");
  return *digest;
}

IndexLine line_from(const FastObject& whole) {
  IndexLine line;
  line.package = package_from_json(whole);
  const FastObject object = whole.renamed(fmt::format("{}: {}", whole.where(), line.package.name));
  line.channel = object.text("channel");
  if (!is_package_name(line.channel)) object.wrong("channel", "the name of a channel");
  const FastObject file = object.object("file"), table = file.object("table");
  line.size = file.number("size");
  line.digest = digest_of(file);
  line.table_offset = table.number("offset");
  line.table_size = table.number("size");
  line.table_digest = digest_of(table);
  return line;
}

}  // namespace

std::string index_text(const std::vector<IndexLine>& lines) {
  std::vector<const IndexLine*> sorted;
  for (const IndexLine& line : lines) sorted.push_back(&line);
  std::sort(sorted.begin(), sorted.end(), [](const IndexLine* a, const IndexLine* b) { return before(*a, *b); });
  std::string text;
  for (const IndexLine* line : sorted) {
    Json object = package_to_json(line->package);
    object["channel"] = line->channel;
    object["file"] = {
        {"size", line->size},
        {"sha256", line->digest.hex()},
        {"table", {{"offset", line->table_offset}, {"size", line->table_size}, {"sha256", line->table_digest.hex()}}}};
    text += canonical(object) + "\n";
  }
  return text;
}

std::vector<IndexLine> parse_index(std::string_view text, const std::string& where) {
  std::vector<IndexLine> lines;
  std::size_t number = 0;
  JsonReader reader;
  lines.reserve(static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n')) + 1);
  while (!text.empty()) {
    const auto end = text.find('\n');
    const std::string place = fmt::format("{}: line {}", where, ++number);
    lines.push_back(line_from(reader.parse(text.substr(0, end), place)));
    text.remove_prefix(end == std::string_view::npos ? text.size() : end + 1);
  }
  return lines;
}

std::string package_path(const Package& package) {
  return fmt::format("packages/{}/{}.{}.hambrel", package.name, package.version.text(), package.arch);
}

std::string package_url_path(const Package& package) {
  return fmt::format("packages/{}/{}.{}.hambrel", url_segment(package.name), url_segment(package.version.text()),
                     package.arch);
}

}  // namespace hambrel::repo
