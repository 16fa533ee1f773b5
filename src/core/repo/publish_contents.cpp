#include "repo/publish_contents.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "archive/frame_codec.h"
#include "archive/package_reader.h"
#include "base/error.h"
#include "base/parallel.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "os/host.h"
#include "repo/index_delta.h"
#include "repo/path_index.h"

namespace hambrel::repo {

namespace {

constexpr int kIndexLevel = 6;       // 15 takes 27 times as long, for a tenth less of what few fetch as a whole
constexpr std::int64_t kUnsure = 2;  // seconds: what was written just now may be written again without a trace
constexpr std::size_t kMostDeltas = 60;
constexpr std::uint64_t kSmall = 64 << 10;  // bytes: what is added to an index of paths may always be that much

/// [expires] targets = 30: how many days a document of a role is good for.
trust::Validities read_validities(TomlTable& top, const std::string& shown) {
  trust::Validities validities;
  const toml::node* const node = top.find("expires");
  if (node == nullptr) return validities;
  if (!node->is_table()) top.wrong("expires", "a table of ROLE = DAYS", node);
  TomlTable table(*node->as_table(), shown, "expires");
  constexpr std::int64_t kMostDays = 36500;
  for (const trust::Root::Of role : trust::kRoles)
    if (const char* const name = trust::Root::name_of(role); table.find(name) != nullptr)
      validities[role] = table.number(name, 1, kMostDays, 1) * trust::kDay;
  table.done();
  return validities;
}

}  // namespace

std::string channel_for(const std::string& name, const Version& version, const std::vector<ChannelRule>& rules) {
  for (const ChannelRule& rule : rules)
    for (const Constraint& one : rule.packages)
      if (one.name == name && one.allows(version)) return rule.channel;
  return "stable";
}

RepositorySettings read_repository_settings(os::FileReader& directory) {
  RepositorySettings settings;
  auto& rules = settings.rules;
  if (!directory.stat("repository.toml")) return settings;
  const std::string shown = directory.shown("repository.toml");
  const toml::table whole = parse_toml(directory.read_all("repository.toml", 1 << 20), shown);
  TomlTable top(whole, shown, "");
  if (const toml::node* list = top.find("channel"); list != nullptr) {
    if (!list->is_array_of_tables()) top.wrong("channel", "written as [[channel]] tables", list);
    for (const toml::node& item : *list->as_array()) {
      TomlTable table(*item.as_table(), shown, "channel");
      ChannelRule rule;
      rule.channel = table.text("name", true, "the name of a channel");
      if (!is_package_name(rule.channel))
        table.wrong("name", "lower-case letters, digits and + . _ -", table.find("name"));
      for (const auto& [text, at] : table.texts("packages")) rule.packages.push_back(parse_constraint(text, at));
      table.done();
      rules.push_back(std::move(rule));
    }
  }
  settings.validities = read_validities(top, shown);
  settings.keep = static_cast<std::uint64_t>(top.number("keep", 0, 1000, 0));
  top.done();
  return settings;
}

namespace {

std::vector<std::string> package_files(os::FileSystem& directory) {
  const auto top = directory.stat_followed("packages");
  for (const std::string& name : directory.list(""))
    if (name.ends_with(".hambrel"))
      throw Error(ErrorCode::Invalid, "is outside packages/, where it would not be found", directory.shown(name),
                  "put package files at packages/NAME/VERSION.ARCH.hambrel, then publish again");
  if (!top || top->type != os::FileType::Directory)
    throw Error(ErrorCode::Invalid, "the directory packages/ is missing", directory.shown(""),
                "put package files at packages/NAME/VERSION.ARCH.hambrel, then publish again");
  std::vector<std::string> files;
  for (const std::string& name : directory.list("packages")) {
    const std::string below = os::join_path("packages", name);
    if (name.ends_with(".hambrel"))
      throw Error(ErrorCode::Invalid, "is not in a package's directory, so no package name leads to it",
                  directory.shown(below),
                  "put package files at packages/NAME/VERSION.ARCH.hambrel, as `hambrel pack` names them");
    try {
      for (const std::string& file : directory.list(below))
        if (file.ends_with(".hambrel")) files.push_back(os::join_path(below, file));
    } catch (const Error&) {  // what is no directory is no package's; asked only here, as there are thousands
      const auto info = directory.stat_followed(below);
      if (info && info->type == os::FileType::Directory) throw;
    }
  }
  return files;
}

/// What an earlier publish has read, by path below the repository.
struct Seen {
  Digest digest;
  std::string mark;
};
using SeenFiles = std::map<std::string, Seen>;

/// Tells whether a file was touched since. Nobody can set the second time.
std::string mark_of(const os::FileInfo& info) {
  return fmt::format("{}:{}:{}.{:09}:{}.{:09}", info.inode, info.size, info.mtime_seconds, info.mtime_nanoseconds,
                     info.changed_seconds, info.changed_nanoseconds);
}

/// Lines "DIGEST MARK PATH". Whatever is damaged in it was not seen.
SeenFiles read_seen(os::FileReader& directory) {
  SeenFiles seen;
  if (!directory.stat(kSeen)) return seen;
  constexpr std::uint64_t kMostBytes = 1ULL << 30;
  const std::string text = directory.read_itself(kSeen, kMostBytes);
  for (const std::string_view line : split(text, '\n')) {
    const auto first = line.find(' '), second = first == std::string_view::npos ? first : line.find(' ', first + 1);
    if (second == std::string_view::npos) continue;
    const auto digest = Digest::from_hex(line.substr(0, first));
    if (!digest) continue;
    seen[std::string(line.substr(second + 1))] = {*digest, std::string(line.substr(first + 1, second - first - 1))};
  }
  return seen;
}

std::vector<std::string> paths_in(const archive::PackageReader& reader) {
  std::vector<std::string> paths;
  const FileList& files = reader.contents().files();
  for (std::size_t i = 0; i < files.size(); ++i)
    if (files.type(i) != EntryType::Directory) paths.emplace_back(files.path(i));
  return paths;
}

/// Throws Error{Untrusted} where it is not what the documents name.
std::string stored_index(os::FileReader& directory, const trust::Pointer& full) {
  std::string stored = directory.read_all(full.path, trust::kMostIndexBytes);
  trust::check_content(stored, full, directory.shown(full.path));
  return stored;
}

std::vector<WrittenLine> lines_of_index(const std::string& stored, const std::string& where) {
  std::string text;
  archive::decompress_in_pieces(stored, archive::most_plain(stored.size()), where,
                                [&](std::string_view piece) { text += piece; });
  return written_lines(text, where);
}

void add_file(Contents& contents, trust::Pointer& pointer, std::uint64_t version, std::string path,
              std::string content) {
  pointer.path = std::move(path);
  pointer.version = version;
  pointer.length = content.size();
  pointer.digest = sha256(content);
  contents.files.push_back({pointer.path, std::move(content)});
}

/// What leads from the index that is served to the new one goes before the others, as long as all of them are less than
/// the whole: whoever would need more takes that.
void add_delta(Contents& contents, const trust::Indexes& served, std::uint64_t version, std::string content) {
  trust::Indexes& indexes = contents.indexes;
  std::uint64_t bytes = content.size();
  indexes.deltas.clear();
  if (bytes >= indexes.full.length) return;
  std::size_t kept = 0;
  const std::vector<trust::Delta>& old = served.deltas;
  for (auto one = old.rbegin(); one != old.rend() && kept + 1 < kMostDeltas; ++one, ++kept) {
    bytes += one->length;
    if (bytes >= indexes.full.length) break;
  }
  indexes.deltas.assign(old.end() - static_cast<std::ptrdiff_t>(kept), old.end());
  trust::Delta delta;
  delta.from = served.full.version;
  add_file(contents, delta, version, trust::delta_path(delta.from, version), std::move(content));
  indexes.deltas.push_back(std::move(delta));
}

/// Makes the contents of a repository.
class ContentsMaker {
 public:
  ContentsMaker(os::FileSystem& directory, const RepositorySettings& settings, const std::optional<Documents>& served,
                std::uint64_t version, Observer& observer)
      : directory_(directory), settings_(settings), served_(served), version_(version), observer_(observer) {}

  Contents make() {
    load_served();
    read_files();
    leave_out_old();
    std::sort(lines_.begin(), lines_.end(),
              [](const WrittenLine& a, const WrittenLine& b) { return precedes(a.line, b.line); });
    std::set<std::string> channels;
    for (const WrittenLine& one : lines_) channels.insert(one.line.channel);
    contents_.channels.assign(channels.begin(), channels.end());
    contents_.packages = lines_.size();
    make_index();
    return std::move(contents_);
  }

 private:
  void load_served() {
    if (!served_) return;
    try {
      const std::string stored = stored_index(directory_, served_->indexes.full);
      before_ = lines_of_index(stored, served_->indexes.full.path);
      knows_served_ = true;
    } catch (const Error&) {  // missing or of another form: the same
      before_.clear();
    }
    for (const WrittenLine& one : before_) by_path_[package_path(one.line.package)] = &one;
  }

  /// What one package file is.
  struct Looked {
    WrittenLine line{};
    std::string mark{};  // empty: it may be written again without a trace
    bool is_new = false;
    std::vector<std::string> paths{};  // of a new one
  };

  void read_files() {
    constexpr std::size_t kAtOnce = 32;  // whose paths are held until they are written down, in order
    const SeenFiles seen = read_seen(directory_);
    const std::int64_t now = os::now();  // as files have it, whatever time the documents are to tell
    const auto files = package_files(directory_);
    observer_.begin("reading packages", files.size(), Observer::Unit::Items);
    for (std::size_t start = 0; start < files.size(); start += kAtOnce) {
      std::vector<Looked> looked(std::min(kAtOnce, files.size() - start));
      in_portions(looked.size(), os::processors(), 1, [&](std::size_t first, std::size_t last) {
        for (std::size_t i = first; i < last; ++i) looked[i] = look_at(files[start + i], seen, now);
      });
      for (std::size_t i = 0; i < looked.size(); ++i) take(files[start + i], std::move(looked[i]));
      observer_.progress(lines_.size());
    }
    observer_.end();
    contents_.read = new_files_.size();
  }

  /// By several threads at once.
  Looked look_at(const std::string& path, const SeenFiles& seen, std::int64_t now) const {
    const auto info = directory_.stat_followed(path);
    const std::string mark = info ? mark_of(*info) : "";
    const auto known = seen.find(path);
    const auto line = by_path_.find(path);
    const bool is_same = known != seen.end() && line != by_path_.end() && known->second.mark == mark &&
                         known->second.digest == line->second->line.digest;
    Looked looked;
    if (is_same)
      looked.line = as_before(*line->second);
    else
      looked = describe(path);
    if (info && info->changed_seconds + kUnsure <= now) looked.mark = mark;
    return looked;
  }

  void take(const std::string& path, Looked looked) {
    if (looked.is_new) {
      new_files_.push_back(path);
      new_paths_.add(looked.line.line.package, std::move(looked.paths));
    }
    if (!looked.mark.empty())
      contents_.seen += fmt::format("{} {} {}\n", looked.line.line.digest.hex(), looked.mark, path);
    lines_.push_back(std::move(looked.line));
  }

  WrittenLine as_before(const WrittenLine& known) const {
    WrittenLine line = known;
    const std::string channel = channel_for(line.line.package.name, line.line.package.version, settings_.rules);
    if (channel == line.line.channel) return line;
    line.line.channel = channel;
    line.text = line_text(line.line);
    return line;
  }

  Looked describe(const std::string& path) const {
    const std::string shown = directory_.shown(path);
    const archive::PackageReader reader(directory_.open(path), shown);
    reader.verify_all();
    Looked made;
    made.is_new = true;
    IndexLine& line = made.line.line;
    line.package = reader.manifest();
    if (package_path(line.package) != path)
      throw Error(ErrorCode::Invalid,
                  fmt::format("contains {} for {}, which belongs elsewhere", line.package.title(), line.package.arch),
                  shown, fmt::format("move it to {}", directory_.shown(package_path(line.package))));
    line.channel = channel_for(line.package.name, line.package.version, settings_.rules);
    line.size = reader.file_size();
    line.digest = directory_.digest(path);
    line.table_offset = reader.footer().table_offset;
    line.table_size = reader.footer().table_size;
    line.table_digest = reader.footer().table_digest;
    made.paths = paths_in(reader);
    made.line.text = line_text(line);
    return made;
  }

  /// Of each package, in each channel and for each architecture, only the newest versions are offered.
  void leave_out_old() {
    if (settings_.keep == 0) return;
    std::sort(lines_.begin(), lines_.end(),
              [](const WrittenLine& a, const WrittenLine& b) { return precedes(a.line, b.line); });
    std::map<std::string, std::uint64_t> count;
    std::erase_if(lines_, [&](const WrittenLine& one) {
      const Package& package = one.line.package;
      const bool is_old = ++count[package.name + '\n' + one.line.channel + '\n' + package.arch] > settings_.keep;
      if (is_old) contents_.left_out.push_back(package_path(package));
      return is_old;
    });
  }

  bool is_as_served() const {
    if (!knows_served_ || !served_->indexes.paths || !directory_.stat(served_->indexes.paths->path)) return false;
    return std::equal(lines_.begin(), lines_.end(), before_.begin(), before_.end(),
                      [](const WrittenLine& a, const WrittenLine& b) { return a.text == b.text; });
  }

  void make_index() {
    trust::Indexes& indexes = contents_.indexes;
    if (is_as_served()) {
      contents_.as_served = true;
      indexes = served_->indexes;
      return;
    }
    std::string text;
    for (const WrittenLine& one : lines_) text += one.text + "\n";
    add_file(contents_, indexes.full, version_, trust::index_path(version_),
             archive::compress_frame(text, kIndexLevel));
    make_delta();
    make_paths();
  }

  void make_delta() {
    if (!knows_served_) return;
    add_delta(contents_, served_->indexes, version_,
              repo::make_delta(before_, lines_, served_->indexes.full.digest, contents_.indexes.full.digest));
  }

  /// Of a few new packages only their own paths are written; who looks for a path asks both.
  void make_paths() {
    trust::Indexes& indexes = contents_.indexes;
    const bool has_base = knows_served_ && served_->indexes.paths && directory_.stat(served_->indexes.paths->path);
    if (has_base) {
      indexes.paths = served_->indexes.paths;
      indexes.paths_deltas = served_->indexes.paths_deltas;
      if (new_files_.empty()) return;
      trust::Delta delta;
      delta.from = served_->indexes.full.version;
      std::string content = new_paths_.finish();
      std::uint64_t bytes = content.size();
      for (const trust::Delta& one : indexes.paths_deltas) bytes += one.length;
      if (bytes < std::max(indexes.paths->length / 2, kSmall) && indexes.paths_deltas.size() + 1 < kMostDeltas) {
        add_file(contents_, delta, version_, trust::paths_delta_path(delta.from, version_), std::move(content));
        indexes.paths_deltas.push_back(std::move(delta));
        return;
      }
    }
    indexes.paths_deltas.clear();
    PathIndexWriter all;
    for (const WrittenLine& one : lines_) {
      const std::string path = package_path(one.line.package);
      all.add(one.line.package, paths_in(archive::PackageReader(directory_.open(path), directory_.shown(path))));
    }
    add_file(contents_, indexes.paths.emplace(), version_, trust::paths_path(version_), all.finish());
  }

  os::FileSystem& directory_;
  const RepositorySettings& settings_;
  const std::optional<Documents>& served_;
  const std::uint64_t version_;
  Observer& observer_;
  std::vector<WrittenLine> before_, lines_;
  std::map<std::string, const WrittenLine*> by_path_;  // of before_
  bool knows_served_ = false;
  std::vector<std::string> new_files_;
  PathIndexWriter new_paths_;
  Contents contents_;
};

}  // namespace

void renumber(os::FileReader& directory, Contents& contents, std::uint64_t version) {
  if (!contents.as_served) return;
  const trust::Indexes served = contents.indexes;
  std::string stored = stored_index(directory, served.full);
  const std::vector<WrittenLine> lines = lines_of_index(stored, served.full.path);
  add_file(contents, contents.indexes.full, version, trust::index_path(version), std::move(stored));
  add_delta(contents, served, version, make_delta(lines, lines, served.full.digest, served.full.digest));
}

Contents read_contents(os::FileSystem& directory, const RepositorySettings& settings,
                       const std::optional<Documents>& served, std::uint64_t version, Observer& observer) {
  return ContentsMaker(directory, settings, served, version, observer).make();
}

}  // namespace hambrel::repo
