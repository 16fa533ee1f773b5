// The invariants T1 to T5 of table.h, each with the words in which it is refused.
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "archive/table.h"
#include "base/error.h"
#include "base/text.h"

namespace hambrel::archive {

namespace {

class Check {
 public:
  Check(const Table& table, const std::string& where) : table_(table), where_(where) {}

  void frames(std::uint64_t table_at) {
    if (table_.frames.size() < 2) refuse("the table lists fewer than two frames");
    std::uint64_t at = 0;
    for (const Frame& frame : table_.frames) {
      if (frame.offset != at || frame.size == 0 || frame.size > table_at - at)
        refuse(fmt::format("the frame at offset {} does not follow the one before", frame.offset));
      if (frame.plain_size > kMostFrameBytes)
        refuse(fmt::format("a frame would unpack to {} bytes, at most {} are accepted", frame.plain_size,
                           kMostFrameBytes));
      at += frame.size;
      plain_ends_.push_back((plain_ends_.empty() ? 0 : plain_ends_.back()) + frame.plain_size);
    }
    if (at != table_at) refuse("the frames do not reach the table of contents");
    // the manifest stands in frame 0 after one plain tar header
    if (table_.manifest_offset != 512 || table_.manifest_size > kMostManifestBytes ||
        table_.frames[0].plain_size != 512 + table_.manifest_size + tar_padding(table_.manifest_size))
      refuse("the first frame does not hold the manifest");
  }

  void entries() {
    std::uint64_t at = table_.frames[0].plain_size;
    const Entry* before = nullptr;
    for (const Entry& entry : table_.entries) {
      path(entry, before);
      way_to_ours(entry);
      links(entry);
      owners(entry);
      at += tar_header_size(entry);
      if (entry.type == EntryType::File) {
        content(entry, at);
        at += entry.size + tar_padding(entry.size);
      }
      if (entry.type == EntryType::Directory) directories_.insert(entry.path);
      ++checked_;
      before = &entry;
    }
    if (at + 1024 != plain_ends_.back() || table_.frames.back().plain_size != 1024)
      refuse("the frames hold more or less than the entries of the table");
  }

 private:
  [[noreturn]] void refuse(const std::string& what, const std::string& path = {}) const {
    throw Error(ErrorCode::Untrusted, path.empty() ? what : fmt::format("{} ({})", what, printable(path)), where_,
                "do not use this file; have it built again with `hambrel pack`");
  }

  /// An entry before the one that is looked at.
  const Entry* seen(std::string_view path) const {
    const auto end = table_.entries.begin() + static_cast<std::ptrdiff_t>(checked_);
    const auto found = std::lower_bound(table_.entries.begin(), end, path,
                                        [](const Entry& one, std::string_view wanted) { return one.path < wanted; });
    return found != end && found->path == path ? &*found : nullptr;
  }

  /// A name that makes of a good directory's path another good one, whatever that directory is called.
  static bool is_ordinary(std::string_view name) {
    return !name.empty() && name.size() <= 255 && name.front() != '.' && name != "hambrel" && name != "trust" &&
           is_plain(name);
  }

  /// Is the directory that a path lies in an entry before it?
  bool has_directory(std::string_view path, std::size_t slash) {
    if (slash == std::string_view::npos) return false;
    if (path.substr(0, slash) == good_parent_) return true;
    const auto parent = directories_.find(path.substr(0, slash));
    if (parent == directories_.end()) return false;
    good_parent_ = *parent;
    return true;
  }

  void path(const Entry& entry, const Entry* before) {
    const std::string_view whole = entry.path;
    const auto slash = whole.rfind('/');
    const bool within = has_directory(whole, slash);
    const bool good = within && whole.size() <= 4095 && is_ordinary(whole.substr(slash + 1));
    if (const std::string problem = good ? "" : path_problem(whole); !problem.empty()) refuse(problem, entry.path);
    if (before != nullptr && whole == before->path) refuse("the same path twice", entry.path);
    if (before != nullptr && whole < before->path) refuse("paths out of order", entry.path);
    if (good) return;
    bool own = false;
    for (const std::string_view top : {"var/lib/hambrel", "var/cache/hambrel", "etc/hambrel/trust"})
      own = own || (whole.starts_with(top) && (whole.size() == top.size() || whole[top.size()] == '/'));
    for (const std::string_view part : split(whole, '/')) own = own || part == ".hambrel";
    if (own) refuse("a package may not contain files in Hambrel's own directories", entry.path);
    if (slash != std::string_view::npos && !within)
      refuse(seen(whole.substr(0, slash)) == nullptr ? "a path whose directory is not in the package"
                                                     : "a path below something that is not a directory",
             entry.path);
  }

  /// Whoever brings a link or a file there would take Hambrel's own directories off the system.
  void way_to_ours(const Entry& entry) const {
    if (entry.type == EntryType::Directory) return;
    for (const std::string_view directory : {"etc", "etc/hambrel", "var", "var/cache", "var/lib"})
      if (entry.path == directory)
        refuse("only a directory may be at a path that Hambrel's own directories are below", entry.path);
  }

  void links(const Entry& entry) const {
    const bool is_link = entry.type == EntryType::Symlink || entry.type == EntryType::HardLink;
    if (is_link == entry.target.empty())
      refuse(is_link ? "a link without a target" : "a target without a link", entry.path);
    if (entry.type == EntryType::HardLink) {
      const Entry* const target = seen(entry.target);
      if (target == nullptr || target->type != EntryType::File)
        refuse("a hard link that names no earlier file of the package", entry.path);
    }
    if (entry.type != EntryType::Symlink) return;
    if (entry.target.size() > 4095 || !is_utf8(entry.target) || entry.target.find('\0') != std::string::npos)
      refuse("a symbolic link with an impossible target", entry.path);
    if (entry.target.front() == '/') return;  // inside the root by definition: it is resolved there
    long depth = static_cast<long>(split(entry.path, '/').size()) - 1;
    for (const std::string_view part : split(entry.target, '/')) {
      if (part == "..")
        --depth;
      else if (!part.empty() && part != ".")
        ++depth;
      if (depth < 0) refuse("a symbolic link that leads out of the root", entry.path);
    }
  }

  void owners(const Entry& entry) const {
    for (const std::string* const one : {&entry.user, &entry.group}) {
      const std::string& name = *one;
      if (name == "root") continue;
      if (name.empty() || name.size() > 255 || !is_utf8(name) || name.find_first_of(":/\n") != std::string::npos ||
          name.find('\0') != std::string::npos)
        refuse("an impossible owner", entry.path);
    }
    for (const auto& [name, value] : entry.attributes)
      if (!name.starts_with("user.") && name != "security.capability")
        refuse("an extended attribute that packages may not set", entry.path);
  }

  void content(const Entry& entry, std::uint64_t at) const {
    if (entry.frame >= table_.frames.size()) refuse("content in a frame that does not exist", entry.path);
    const std::uint64_t begin = entry.frame == 0 ? 0 : plain_ends_[entry.frame - 1];
    if (entry.offset > table_.frames[entry.frame].plain_size || begin + entry.offset != at)
      refuse("content is not where the table puts it", entry.path);
    if (entry.size > plain_ends_.back() - at) refuse("content larger than the package", entry.path);
  }

  const Table& table_;
  const std::string& where_;
  std::vector<std::uint64_t> plain_ends_;
  std::size_t checked_ = 0;                           // entries: their paths ascend
  std::unordered_set<std::string_view> directories_;  // among them
  std::string_view good_parent_;                      // the one that was looked up last
};

}  // namespace

void check_table(const Table& table, std::uint64_t table_at, const std::string& where) {
  Check check(table, where);
  check.frames(table_at);
  check.entries();
}

}  // namespace hambrel::archive
