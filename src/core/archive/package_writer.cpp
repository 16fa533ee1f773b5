#include "archive/package_writer.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/contents.h"
#include "archive/frame_codec.h"
#include "base/error.h"
#include "base/json.h"
#include "base/parallel.h"
#include "base/text.h"

namespace hambrel::archive {

namespace {

// Small frames make upgrades cheap, which fetch only those that have changed, and are unpacked and digested faster;
// great ones make packages small: with 4 MiB where this cuts, 1 % smaller.
constexpr std::uint64_t kTogether = 64ULL << 10;  // small files share frames up to this many plain bytes
constexpr std::uint64_t kAlone = 64ULL << 10;     // a file from this size has frames of its own,
constexpr std::uint64_t kCut = 1ULL << 20;        // cut at this size: several of them fit into the processor's cache

/// Compresses frames on several threads and writes them in order.
class FrameWriter {
 public:
  FrameWriter(os::WritableFile& into, const WriteOptions& options) : into_(into), options_(options) {}

  std::uint32_t next_number() const { return static_cast<std::uint32_t>(frames_.size() + waiting_.size()); }
  void add(std::string plain) {
    waiting_.push_back(std::move(plain));
    if (waiting_.size() >= 4U * std::max(1U, options_.threads)) flush();
  }
  void flush();
  void raw(std::string_view bytes) {
    whole_.update(bytes);
    into_.write(bytes);
    at_ += bytes.size();
  }
  std::uint64_t at() const { return at_; }
  std::vector<Frame> take_frames() { return std::move(frames_); }
  Digest digest() { return whole_.finish(); }

 private:
  os::WritableFile& into_;
  const WriteOptions& options_;
  std::vector<std::string> waiting_;
  std::vector<Frame> frames_;
  std::uint64_t at_ = 0;
  Sha256 whole_;
};

void FrameWriter::flush() {
  std::vector<std::string> stored(waiting_.size());
  in_portions(waiting_.size(), options_.threads, 0, [&](std::size_t first, std::size_t last) {
    for (std::size_t i = first; i < last; ++i) stored[i] = compress_frame(waiting_[i], options_.level);
  });
  for (std::size_t i = 0; i < stored.size(); ++i) {
    frames_.push_back({at_, stored[i].size(), waiting_[i].size(), sha256(stored[i])});
    raw(stored[i]);
  }
  waiting_.clear();
}

/// The entries of a source tree, in the order of their paths.
class Scan {
 public:
  Scan(os::FileReader& source, std::string_view root, const PackageSource& description, const WriteOptions& options)
      : source_(source), root_(root), description_(description), options_(options) {}

  std::vector<Entry> run() {
    const auto top = source_.stat(root_);
    if (!top || top->type != os::FileType::Directory)
      throw Error(ErrorCode::Invalid, "the directory root/ is missing", source_.shown(root_),
                  "put the package's files below root/, laid out as on the system");
    std::vector<std::string> waiting = children("");
    while (!waiting.empty()) {
      const std::string path = std::move(waiting.back());
      waiting.pop_back();
      entries_.push_back(entry(path));
      if (entries_.back().type != EntryType::Directory) continue;
      auto below = children(path);
      waiting.insert(waiting.end(), std::make_move_iterator(below.begin()), std::make_move_iterator(below.end()));
    }
    add_directories(*top);
    std::sort(entries_.begin(), entries_.end(), [](const Entry& a, const Entry& b) { return a.path < b.path; });
    join_hard_links();
    for (const std::string& glob : description_.package.config_globs)
      if (std::none_of(entries_.begin(), entries_.end(),
                       [&](const Entry& one) { return one.config && path_glob_match(glob, one.path); }))
        throw Error(ErrorCode::Invalid, fmt::format("config.files: \"{}\" matches no file", glob), source_.shown(root_),
                    "globs are relative to the root: * stops at /, ** does not");
    return std::move(entries_);
  }

 private:
  std::vector<std::string> children(const std::string& path) {
    std::vector<std::string> result;
    for (const std::string& name : source_.list(at(path))) result.push_back(os::join_path(path, name));
    return result;
  }

  /// Those that the package declares, with what leads to them: they need not lie in the source.
  void add_directories(const os::FileInfo& top) {
    if (description_.package.actions == nullptr) return;
    const auto find = [&](std::string_view path) {
      const auto found =
          std::find_if(entries_.begin(), entries_.end(), [&](const Entry& one) { return one.path == path; });
      if (found != entries_.end()) return &*found;
      Entry& made = entries_.emplace_back();
      made.path = path;
      made.type = EntryType::Directory;
      made.mode = 0755;
      made.mtime = std::max<std::int64_t>(0, top.mtime_seconds);
      if (options_.latest_mtime > 0) made.mtime = std::min(made.mtime, options_.latest_mtime);
      return &made;
    };
    for (const OwnedDirectory& one : description_.package.actions->directories) {
      for (auto above = os::parent_of(one.path); !above.empty(); above = os::parent_of(above)) find(above);
      Entry& entry = *find(one.path);
      if (entry.type != EntryType::Directory)
        throw Error(ErrorCode::Invalid, "is declared as a directory, but is a file", source_.shown(at(one.path)),
                    "remove it from root/, or from [[directories]]");
      entry.user = one.user;
      entry.group = one.group;
      entry.mode = one.mode;
    }
  }

  std::string at(const std::string& path) const { return path.empty() ? root_ : os::join_path(root_, path); }

  Entry entry(const std::string& path) {
    if (const std::string problem = path_problem(path); !problem.empty())
      throw Error(ErrorCode::Invalid, problem + " cannot be in a package", printable(source_.shown(at(path))),
                  "rename it");
    const auto info = source_.stat(at(path));
    if (!info)
      throw Error(ErrorCode::Invalid, "disappeared while it was packed", source_.shown(at(path)), "run pack again");
    Entry entry;
    entry.path = path;
    entry.mode = info->mode;
    entry.mtime = std::max<std::int64_t>(0, info->mtime_seconds);
    if (options_.latest_mtime > 0) entry.mtime = std::min(entry.mtime, options_.latest_mtime);
    switch (info->type) {
      case os::FileType::Regular:
        entry.type = EntryType::File;
        entry.size = info->size;
        break;
      case os::FileType::Directory: entry.type = EntryType::Directory; break;
      case os::FileType::Symlink:
        entry.type = EntryType::Symlink;
        entry.mode = 0777;
        entry.target = source_.read_link(at(path));
        break;
      case os::FileType::Other:
        throw Error(ErrorCode::Invalid, "only files, directories and links can be in a package",
                    source_.shown(at(path)),
                    "device nodes, pipes and sockets are made by the system at run time: leave it out");
    }
    for (const auto& [name, value] : source_.attributes(at(path)))
      if (name.starts_with("user.") || name == "security.capability") entry.attributes.emplace(name, value);
    for (const FileAttributes& rule : description_.attributes) {
      if (!path_glob_match(rule.glob, path)) continue;
      if (!rule.user.empty()) entry.user = rule.user;
      if (!rule.group.empty()) entry.group = rule.group;
      if (rule.mode >= 0 && entry.type != EntryType::Symlink) entry.mode = static_cast<std::uint32_t>(rule.mode);
    }
    entry.config = entry.type == EntryType::File && is_config(description_.package, path);
    if (entry.type == EntryType::File && info->links > 1)
      linked_.emplace_back(std::pair(info->device, info->inode), path);
    return entry;
  }

  // The first path of an inode is the file, the others become hard links to it.
  void join_hard_links() {
    std::sort(linked_.begin(), linked_.end());
    for (std::size_t i = 1; i < linked_.size(); ++i) {
      if (linked_[i].first != linked_[i - 1].first) continue;
      const auto found = std::lower_bound(entries_.begin(), entries_.end(), linked_[i].second,
                                          [](const Entry& one, const std::string& path) { return one.path < path; });
      std::size_t first = i;
      while (first > 0 && linked_[first - 1].first == linked_[i].first) --first;
      found->type = EntryType::HardLink;
      found->target = linked_[first].second;
      found->size = 0;
      found->config = false;
      found->attributes.clear();
    }
  }

  os::FileReader& source_;
  std::string root_;
  const PackageSource& description_;
  const WriteOptions& options_;
  std::vector<Entry> entries_;
  std::vector<std::pair<std::pair<std::uint64_t, std::uint64_t>, std::string>> linked_;
};

/// Turns entries into the plain stream, cut into frames.
class Payload {
 public:
  Payload(os::FileReader& source, std::string root, FrameWriter& frames)
      : source_(source), root_(std::move(root)), frames_(frames) {}

  void add(Entry& entry) {
    const bool alone = entry.type == EntryType::File && entry.size >= kAlone;
    if (alone) cut();
    together_ += tar_header(entry);
    if (entry.type != EntryType::File) return cut_when(kTogether);
    entry.frame = frames_.next_number();
    entry.offset = together_.size();
    content(entry);
    together_.append(tar_padding(entry.size), '\0');
    if (alone)
      cut();
    else
      cut_when(kTogether);
  }

  void cut() {
    if (!together_.empty()) frames_.add(std::move(together_));
    together_.clear();
  }

 private:
  void cut_when(std::uint64_t size) {
    if (together_.size() >= size) cut();
  }

  void content(Entry& entry) {
    const std::string path = os::join_path(root_, entry.path);
    const auto file = source_.open_itself(path);  // what was looked at, and not what it leads to by now
    Sha256 running;
    std::uint64_t done = 0;
    while (done < entry.size) {
      if (together_.size() >= kCut) cut();
      const std::size_t piece = std::min<std::uint64_t>(entry.size - done, kCut - together_.size());
      const std::string data = file->read_exactly(done, piece, source_.shown(path));
      running.update(data);
      together_ += data;
      done += piece;
    }
    std::byte beyond{};
    if (file->read_at(done, std::span(&beyond, 1)) != 0)
      throw Error(ErrorCode::Invalid, "grew while it was packed", source_.shown(path),
                  "run pack again when nothing writes to it");
    entry.digest = running.finish();
  }

  os::FileReader& source_;
  std::string root_;
  FrameWriter& frames_;
  std::string together_;
};

}  // namespace

WrittenPackage write_package(os::FileReader& source, std::string_view root_path, const PackageSource& description,
                             os::WritableFile& into, const WriteOptions& options, Observer& observer) {
  auto entries = Scan(source, root_path, description, options).run();
  return write_entries(source, root_path, description.package, std::move(entries), into, options, observer);
}

WrittenPackage write_entries(os::FileReader& source, std::string_view root_path, const Package& package,
                             std::vector<Entry> entries, os::WritableFile& into, const WriteOptions& options,
                             Observer& observer) {
  WrittenPackage written;
  written.package = package;
  written.package.file_count = 0;
  written.package.installed_size = 0;
  Table table;
  table.entries = std::move(entries);
  for (const Entry& entry : table.entries) {
    if (entry.type != EntryType::Directory) ++written.package.file_count;
    if (entry.type == EntryType::File) written.package.installed_size += entry.size;
  }
  written.package.privileged = privileged_files(FileList::of(table.entries));

  FrameWriter frames(into, options);
  Json described = package_to_json(written.package);
  if (!options.built.empty()) described["built"] = parse_json(options.built, "how it was built");
  const std::string manifest = canonical(described);
  Entry head;
  head.path = ".hambrel/manifest.json";
  head.mode = 0644;
  head.size = manifest.size();
  std::string first = tar_header(head);
  table.manifest_offset = first.size();
  table.manifest_size = manifest.size();
  first += manifest;
  first.append(tar_padding(manifest.size()), '\0');
  frames.add(std::move(first));

  Payload payload(source, std::string(root_path), frames);
  observer.begin("packing " + written.package.title(), written.package.installed_size, Observer::Unit::Bytes);
  ByteCount done = 0;
  for (Entry& entry : table.entries) {
    payload.add(entry);
    observer.progress(done += entry.size);
  }
  payload.cut();
  frames.add(std::string(1024, '\0'));
  frames.flush();
  observer.end();

  table.frames = frames.take_frames();
  check_table(table, frames.at(), source.shown(root_path));
  const std::string stored = encode_table(table);
  frames.raw(skippable_header(kTableMagic, static_cast<std::uint32_t>(stored.size())));
  const Footer footer{frames.at(), stored.size(), sha256(stored)};
  frames.raw(stored);
  if (options.sign) frames.raw(encode_signatures(options.sign(footer.table_digest)));
  frames.raw(encode_footer(footer));
  written.size = frames.at();
  written.digest = frames.digest();
  return written;
}

}  // namespace hambrel::archive
