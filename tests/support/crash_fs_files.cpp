// Contents of open files in a CrashFs and what they are given at the end, and telling all of it.
#include <fmt/format.h>

#include <algorithm>

#include "base/digest.h"
#include "base/text.h"
#include "support/crash_handles.h"

namespace hambrel::test {

std::string CrashFs::read(Id file, std::uint64_t offset, std::size_t size) const {
  const std::lock_guard lock(mutex_);
  const std::string& content = live_.at(file).content;
  return offset < content.size() ? content.substr(offset, size) : "";
}

std::uint64_t CrashFs::size(Id file) const {
  const std::lock_guard lock(mutex_);
  return live_.at(file).content.size();
}
os::FileInfo CrashFs::info_of(Id file) const {
  const std::lock_guard lock(mutex_);
  return *info(file);
}

std::uint64_t CrashFs::operations() const {
  const std::lock_guard lock(mutex_);
  return count_;
}
bool CrashFs::crashed() const {
  const std::lock_guard lock(mutex_);
  return crash_at_ > 0 && count_ >= crash_at_;
}

void CrashFs::write_at(Id file, std::uint64_t offset, std::string_view data) {
  const std::lock_guard lock(mutex_);
  const bool torn = count_ + 1 == crash_at_ && data.size() > 1;  // the power goes in the middle of it
  if (torn) data = data.substr(0, data.size() / 2);
  if (!torn) step();
  change({live_.at(file).disk,
          {},
          file,
          true,
          [file, offset, text = std::string(data), time = ++clock_](Disk& disk, bool half) {
            const auto node = disk.find(file);
            if (node == disk.end()) return;
            const std::size_t size = half ? text.size() / 2 : text.size();
            std::string& content = node->second.content;
            if (content.size() < offset + size) content.resize(offset + size, '\0');
            content.replace(offset, size, text, 0, size);
            node->second.seconds = time;
          }});
  if (torn) step();
}

void CrashFs::truncate(Id file, std::uint64_t size) {
  const std::lock_guard lock(mutex_);
  step();
  change({live_.at(file).disk, {}, file, true, [file, size](Disk& disk, bool) {
            if (const auto node = disk.find(file); node != disk.end()) node->second.content.resize(size, '\0');
          }});
}

void CrashFs::sync_file(Id file) {
  const std::lock_guard lock(mutex_);
  step();
  put_node(durable_, file, births_.at(file));
  settle([&](const Change& one) { return one.file == file; });
}

void CrashFs::set_metadata_of(Id file, const os::Metadata& metadata) {
  const std::lock_guard lock(mutex_);
  step();
  change({live_.at(file).disk, {}, file, false, [file, metadata](Disk& disk, bool) {
            const auto node = disk.find(file);
            if (node == disk.end()) return;
            if (metadata.owner) {
              node->second.uid = metadata.owner->first;
              node->second.gid = metadata.owner->second;
            }
            if (metadata.mode) node->second.mode = *metadata.mode;
            for (const auto* attributes : {&metadata.inherited, &metadata.attributes})
              for (const auto& [name, value] : *attributes) node->second.attributes[name] = value;
            if (!metadata.label.empty()) node->second.attributes[os::kLabelAttribute] = metadata.label;
            if (metadata.mtime) {
              node->second.seconds = *metadata.mtime;
              node->second.nanoseconds = 0;
            }
          }});
}

std::map<std::string, std::string> CrashFs::tree(const std::vector<std::string>& without) const {
  const std::lock_guard lock(mutex_);
  std::map<std::string, std::string> result;
  std::map<Id, unsigned> links;
  for (const auto& [id, node] : live_)
    for (const auto& [name, to] : node.names) ++links[to];
  std::vector<std::pair<std::string, Id>> waiting{{"", kTop}};
  while (!waiting.empty()) {
    const auto [path, id] = waiting.back();
    waiting.pop_back();
    const Node& node = live_.at(id);
    if (!path.empty()) {
      std::string facts = fmt::format("{} {:o} {}:{} {}", static_cast<int>(node.type), node.mode, node.uid, node.gid,
                                      node.type == FileType::Directory ? 0 : links[id]);
      if (node.type == FileType::Regular) facts += fmt::format(" {} {}", node.seconds, sha256(node.content).hex());
      if (node.type == FileType::Symlink) facts += " -> " + node.content;
      for (const auto& [name, value] : node.attributes) facts += " " + name + "=" + value;
      result[path] = facts;
    }
    for (const auto& [name, child] : node.names) {
      const std::string below = os::join_path(path, name);
      if (std::find(without.begin(), without.end(), below) == without.end()) waiting.emplace_back(below, child);
    }
  }
  return result;
}

Digest CrashFs::fingerprint() const {
  const std::lock_guard lock(mutex_);
  std::string text;
  const auto put = [&](std::string_view part) { text += fmt::format("{} {}", part.size(), part); };
  for (const auto& [id, node] : durable_) {
    text += fmt::format("\n{} {} {:o} {} {} {}.{} {} ", id, static_cast<int>(node.type), node.mode, node.uid, node.gid,
                        node.seconds, node.nanoseconds, node.disk);
    put(node.content);
    for (const auto& [name, value] : node.attributes) {
      put(name);
      put(value);
    }
    for (const auto& [name, child] : node.names) {
      put(name);
      put(std::to_string(child));
    }
  }
  return sha256(text);
}

}  // namespace hambrel::test
