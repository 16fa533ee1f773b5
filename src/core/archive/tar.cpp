// The canonical tar form of an entry. Numbers of owners are always 0: names count.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "archive/table.h"

namespace hambrel::archive {

namespace {

constexpr std::size_t kBlock = 512;

bool is_ascii(std::string_view text) {
  unsigned char any = 0;  // without a way out of the loop, it is done many bytes at a time
  for (const char c : text) any |= static_cast<unsigned char>(c);
  return any < 0x80;
}

void put(std::string& block, std::size_t at, std::size_t room, std::string_view text) {
  std::memcpy(block.data() + at, text.data(), std::min(room, text.size()));
}

void put_octal(std::string& block, std::size_t at, std::size_t digits, std::uint64_t value) {
  put(block, at, digits, fmt::format("{:0{}o}", value, digits));
}

std::string ustar(std::string_view name, char type, std::uint32_t mode, std::uint64_t size, std::uint64_t mtime,
                  std::string_view link, std::string_view user, std::string_view group) {
  std::string block(kBlock, '\0');
  put(block, 0, 100, name);
  put_octal(block, 100, 7, mode);
  put_octal(block, 108, 7, 0);
  put_octal(block, 116, 7, 0);
  put_octal(block, 124, 11, size);
  put_octal(block, 136, 11, mtime);
  put(block, 148, 8, "        ");
  block[156] = type;
  put(block, 157, 100, link);
  put(block, 257, 8, std::string_view("ustar\00000", 8));
  put(block, 265, 31, user);
  put(block, 297, 31, group);
  put_octal(block, 329, 7, 0);
  put_octal(block, 337, 7, 0);
  unsigned sum = 0;
  for (const char c : block) sum += static_cast<unsigned char>(c);
  put_octal(block, 148, 6, sum);
  block[154] = '\0';
  return block;
}

/// "LENGTH KEY=VALUE\n", where LENGTH counts itself.
std::string pax_record(std::string_view key, std::string_view value) {
  const std::size_t rest = key.size() + value.size() + 3;
  std::size_t length = rest + 1;
  while (length != rest + std::to_string(length).size()) length = rest + std::to_string(length).size();
  return fmt::format("{} {}={}\n", length, key, value);
}

}  // namespace

std::uint64_t tar_padding(std::uint64_t size) { return (kBlock - size % kBlock) % kBlock; }

namespace {

constexpr std::uint64_t kMostUstarSize = 077777777777ULL;

/// What does not fit into the ustar header, as pax records.
std::string extended_of(const Entry& entry, const std::string& name, std::uint64_t size) {
  std::string extended;
  if (name.size() > 100 || !is_ascii(name)) extended += pax_record("path", name);
  if (entry.target.size() > 100 || !is_ascii(entry.target)) extended += pax_record("linkpath", entry.target);
  if (size > kMostUstarSize) extended += pax_record("size", std::to_string(size));
  if (entry.user.size() > 31 || !is_ascii(entry.user)) extended += pax_record("uname", entry.user);
  if (entry.group.size() > 31 || !is_ascii(entry.group)) extended += pax_record("gname", entry.group);
  for (const auto& [key, value] : entry.attributes) extended += pax_record("SCHILY.xattr." + key, value);
  return extended;
}

std::string name_of(const Entry& entry) { return entry.type == EntryType::Directory ? entry.path + "/" : entry.path; }
std::uint64_t size_of(const Entry& entry) { return entry.type == EntryType::File ? entry.size : 0; }

}  // namespace

std::uint64_t tar_header_size(const Entry& entry) {
  const bool plainly = entry.path.size() < 100 && is_ascii(entry.path) && entry.target.empty() &&
                       entry.user == "root" && entry.group == "root" && entry.attributes.empty() &&
                       size_of(entry) <= kMostUstarSize;
  if (plainly) return kBlock;  // of most
  const std::string extended = extended_of(entry, name_of(entry), size_of(entry));
  return extended.empty() ? kBlock : 2 * kBlock + extended.size() + tar_padding(extended.size());
}

std::string tar_header(const Entry& entry) {
  const std::string name = name_of(entry);
  const std::uint64_t size = size_of(entry);
  const std::string extended = extended_of(entry, name, size);
  std::string bytes;
  if (!extended.empty()) {
    bytes = ustar("PaxHeader", 'x', 0644, extended.size(), 0, "", "root", "root");
    bytes += extended;
    bytes.append(tar_padding(extended.size()), '\0');
  }
  static constexpr char kTypes[] = {'0', '5', '2', '1'};
  bytes += ustar(name, kTypes[static_cast<int>(entry.type)], entry.mode, std::min(size, kMostUstarSize),
                 static_cast<std::uint64_t>(entry.mtime), entry.target, entry.user, entry.group);
  return bytes;
}

}  // namespace hambrel::archive
