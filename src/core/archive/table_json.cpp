#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cstring>

#include "archive/frame_codec.h"
#include "archive/table.h"
#include "archive/table_scan.h"
#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/text.h"

namespace hambrel::archive {

namespace {

constexpr std::array<std::string_view, 4> kTypeNames{"file", "directory", "symlink", "hardlink"};
constexpr int kTableLevel = 15;
constexpr std::uint32_t kFormatVersion = 1;
constexpr std::string_view kTableMark = "HAMBREL\n";

Json to_json(const Entry& entry) {
  Json object = {{"path", entry.path},   {"type", kTypeNames[static_cast<std::size_t>(entry.type)]},
                 {"mode", entry.mode},   {"user", entry.user},
                 {"group", entry.group}, {"mtime", entry.mtime}};
  if (entry.type == EntryType::File) {
    object["size"] = entry.size;
    object["sha256"] = entry.digest.hex();
    object["frame"] = entry.frame;
    object["offset"] = entry.offset;
  }
  if (!entry.target.empty()) object["target"] = entry.target;
  for (const auto& [name, value] : entry.attributes) object["attributes"][name] = to_base64(value);
  if (entry.config) object["config"] = true;
  return object;
}

Digest digest_of(const FastObject& object) {
  const auto digest = Digest::from_hex(object.view("sha256"));
  if (!digest) object.wrong("sha256", "64 hexadecimal digits");
  return *digest;
}

Entry entry_from(const FastObject& unnamed) {
  Entry entry;
  entry.path = unnamed.view("path");
  const FastObject object = unnamed.named(entry.path);
  const std::string_view type = object.view("type");
  const auto known = std::find(kTypeNames.begin(), kTypeNames.end(), type);
  if (known == kTypeNames.end()) object.wrong("type", "file, directory, symlink or hardlink");
  entry.type = static_cast<EntryType>(known - kTypeNames.begin());
  const std::uint64_t mode = object.number("mode");
  if (mode > kMostMode) object.wrong("mode", "permission bits");
  entry.mode = static_cast<std::uint32_t>(mode);
  entry.user = object.text("user");
  entry.group = object.text("group");
  const std::uint64_t mtime = object.number("mtime");
  if (mtime > kMostTime) object.wrong("mtime", "seconds since 1970");
  entry.mtime = static_cast<std::int64_t>(mtime);
  if (entry.type == EntryType::File) {
    entry.size = object.number("size");
    entry.digest = digest_of(object);
    const std::uint64_t frame = object.number("frame");
    if (frame > UINT32_MAX) object.wrong("frame", "the number of a frame");
    entry.frame = static_cast<std::uint32_t>(frame);
    entry.offset = object.number("offset");
  }
  entry.target = object.text_or("target", "");
  entry.config = object.flag_or("config", false);
  if (object.has("attributes")) {
    for (const auto& [name, text] : object.named_texts("attributes")) {
      const auto data = from_base64(text);
      if (!data) object.wrong("attributes", "texts in base64");
      entry.attributes.emplace(name, *data);
    }
  }
  return entry;
}

void put_number(std::string& bytes, std::uint64_t value, int size) {
  for (int i = 0; i < size; ++i) bytes.push_back(static_cast<char>(value >> (8 * i) & 255U));
}

std::uint64_t get_number(std::string_view bytes, std::size_t at, std::size_t size) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < size; ++i)
    value |= static_cast<std::uint64_t>(static_cast<std::uint8_t>(bytes[at + i])) << (8 * i);
  return value;
}

}  // namespace

std::string encode_table(const Table& table) {
  Json frames = Json::array();
  for (const Frame& frame : table.frames)
    frames.push_back(
        {{"offset", frame.offset}, {"size", frame.size}, {"plain", frame.plain_size}, {"sha256", frame.digest.hex()}});
  Json entries = Json::array();
  for (const Entry& entry : table.entries) entries.push_back(to_json(entry));
  const Json whole = {{"frames", std::move(frames)},
                      {"manifest", {{"offset", table.manifest_offset}, {"size", table.manifest_size}}},
                      {"entries", std::move(entries)}};
  return compress_frame(canonical(whole), kTableLevel);
}

Table decode_table(std::string_view stored, const std::string& where) {
  FrameDecoder decoder;
  const std::string_view text =
      decoder.decode_sized(stored, std::min(kMostTableBytes, most_plain(stored.size())), where);
  const std::string place = where + ": table of contents";
  JsonReader reader;
  const auto read_one = [&](std::string_view one) -> std::optional<Entry> {
    try {
      return entry_from(reader.parse(one, place));
    } catch (const Error&) {  // what is wrong with it is told where all is read
      return std::nullopt;
    }
  };
  if (auto scanned = scan_table(text, read_one)) return std::move(*scanned);
  Table table;
  const FastObject object = reader.parse(text, place);
  const simdjson::dom::array entries = object.array("entries");
  if (entries.size() > kMostEntries)
    throw Error(ErrorCode::Untrusted, fmt::format("more than {} entries", kMostEntries), place);
  table.entries.reserve(entries.size());
  for (const simdjson::dom::element one : entries) {
    simdjson::dom::object members;
    if (one.get(members) != simdjson::SUCCESS) object.wrong("entries", "a list of objects");
    table.entries.push_back(entry_from(reader.look_at(members)));
  }
  for (const FastObject& frame : object.objects("frames"))
    table.frames.push_back({frame.number("offset"), frame.number("size"), frame.number("plain"), digest_of(frame)});
  const FastObject manifest = object.object("manifest");
  table.manifest_offset = manifest.number("offset");
  table.manifest_size = manifest.number("size");
  return table;
}

std::string skippable_header(std::uint32_t magic, std::uint32_t size) {
  std::string bytes;
  put_number(bytes, magic, 4);
  put_number(bytes, size, 4);
  return bytes;
}

std::string encode_footer(const Footer& footer) {
  std::string bytes = skippable_header(kFooterMagic, kFooterSize - 8);
  bytes += kTableMark;
  put_number(bytes, kFormatVersion, 4);
  put_number(bytes, 0, 4);
  put_number(bytes, footer.table_offset, 8);
  put_number(bytes, footer.table_size, 8);
  bytes.append(reinterpret_cast<const char*>(footer.table_digest.bytes.data()), footer.table_digest.bytes.size());
  return bytes;
}

Footer decode_footer(std::string_view bytes, const std::string& where) {
  const std::string start = skippable_header(kFooterMagic, kFooterSize - 8) + std::string(kTableMark);
  if (bytes.size() != kFooterSize || !bytes.starts_with(start))
    throw Error(ErrorCode::Untrusted, "not a Hambrel package file, or its end is missing or damaged", where,
                "fetch or copy the file again; `hambrel pack` makes such files");
  if (const auto version = get_number(bytes, 16, 4); version != kFormatVersion)
    throw Error(ErrorCode::Untrusted,
                fmt::format("unknown package format {} (this program reads {})", version, kFormatVersion), where,
                "use a newer hambrel");
  if (get_number(bytes, 20, 4) != 0)
    throw Error(ErrorCode::Untrusted, "the footer is damaged", where, "fetch or copy the file again");
  Footer footer;
  footer.table_offset = get_number(bytes, 24, 8);
  footer.table_size = get_number(bytes, 32, 8);
  std::memcpy(footer.table_digest.bytes.data(), bytes.data() + 40, 32);
  return footer;
}

}  // namespace hambrel::archive
