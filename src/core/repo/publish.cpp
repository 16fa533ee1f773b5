#include "repo/publish.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "archive/frame_codec.h"
#include "archive/package_reader.h"
#include "base/error.h"
#include "base/toml_table.h"
#include "repo/index.h"
#include "repo/path_index.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

constexpr int kIndexLevel = 15;
constexpr std::uint64_t kKeptIndexes = 3;  // clients in the middle of a refresh still find the one they read of

/// repository.toml: [[channel]] name = "beta", packages = ["lampdesk >= 6"]; what no rule names is in "stable".
struct ChannelRule {
  std::string channel;
  std::vector<Constraint> packages;
};

std::vector<ChannelRule> read_rules(os::FileReader& directory) {
  std::vector<ChannelRule> rules;
  if (!directory.stat("repository.toml")) return rules;
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
  top.done();
  return rules;
}

std::string channel_of(const Package& package, const std::vector<ChannelRule>& rules) {
  for (const ChannelRule& rule : rules)
    for (const Constraint& one : rule.packages)
      if (one.name == package.name && one.allows(package.version)) return rule.channel;
  return "stable";
}

IndexLine describe(os::FileSystem& directory, const std::string& path, const std::vector<ChannelRule>& rules,
                   PathIndexWriter& paths) {
  const std::string shown = directory.shown(path);
  const archive::PackageReader reader(directory.open(path), shown);
  reader.verify_all();
  IndexLine line;
  line.package = reader.manifest();
  if (package_path(line.package) != path)
    throw Error(ErrorCode::Invalid,
                fmt::format("contains {} for {}, which belongs elsewhere", line.package.title(), line.package.arch),
                shown, fmt::format("move it to {}", directory.shown(package_path(line.package))));
  line.channel = channel_of(line.package, rules);
  line.size = reader.file_size();
  line.digest = directory.digest(path);
  line.table_offset = reader.footer().table_offset;
  line.table_size = reader.footer().table_size;
  line.table_digest = reader.footer().table_digest;
  std::vector<std::string> brought;
  for (const archive::Entry& entry : reader.table().entries)
    if (entry.type != EntryType::Directory) brought.push_back(entry.path);
  paths.add(line.package, std::move(brought));
  return line;
}

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
    const auto info = directory.stat_followed(below);
    if (name.ends_with(".hambrel"))
      throw Error(ErrorCode::Invalid, "is not in a package's directory, so no package name leads to it",
                  directory.shown(below),
                  "put package files at packages/NAME/VERSION.ARCH.hambrel, as `hambrel pack` names them");
    if (!info || info->type != os::FileType::Directory) continue;
    for (const std::string& file : directory.list(below))
      if (file.ends_with(".hambrel")) files.push_back(os::join_path(below, file));
  }
  return files;
}

void drop_old(os::FileSystem& directory, std::uint64_t version) {
  for (std::uint64_t old = version > kKeptIndexes ? version - kKeptIndexes : 0; old > 0; --old) {
    const std::string index = trust::index_path(old);
    if (!directory.stat(index)) break;
    directory.remove_file(index);
    const std::string paths = trust::paths_path(old);
    if (directory.stat(paths)) directory.remove_file(paths);
    for (const char* kind : {"snapshot", "targets"}) {
      const std::string path = fmt::format("trust/{}.{}.json", old, kind);
      if (directory.stat(path)) directory.remove_file(path);
    }
  }
}

std::string root_path(std::uint64_t version) { return fmt::format("trust/{}.root.json", version); }

trust::Root read_root(os::FileSystem& directory, std::uint64_t version) {
  const std::string path = root_path(version);
  return trust::Root::first(directory.read_all(path, trust::kMostMetadataBytes), directory.shown(path));
}

std::optional<trust::Root> newest_root(os::FileSystem& directory) {
  std::uint64_t version = 0;
  while (directory.stat(root_path(version + 1))) ++version;
  return version == 0 ? std::nullopt : std::optional(read_root(directory, version));
}

/// The root document that is to be signed by; a first one is made where that is asked for. Nothing: unsigned.
std::optional<trust::Root> root_for(os::FileSystem& directory, const PublishKeys& keys, std::int64_t now) {
  std::optional<trust::Root> root = newest_root(directory);
  const bool any = !keys.ring.empty();
  if (keys.first && root)
    throw Error(ErrorCode::Refused, fmt::format("has root {} already", root->version()), directory.shown("trust"),
                "leave out --init");
  if (keys.first && any) {
    const std::string text = trust::make_first_root(keys.ring, now, keys.where);
    trust::Root first = trust::Root::first(text, directory.shown(root_path(1)));
    directory.make_directories("trust");
    directory.replace_file(root_path(1), text, 0644);
    return first;
  }
  if (keys.first || (root && !any))
    throw Error(ErrorCode::Refused, root ? "this repository is signed, and no keys are at hand" : "no keys are at hand",
                directory.shown(""), "name their directory with --keys");
  if (any && !root)
    throw Error(ErrorCode::Refused, "there are keys, but no root document that says what each is for",
                directory.shown(""), "--init makes one");
  if (root) root->document().require_fresh(now);
  return root;
}

/// What was published last.
struct Last {
  std::string timestamp, snapshot, targets;
  trust::Indexes indexes;
};

std::optional<Last> last_published(os::FileSystem& directory) {
  if (!directory.stat(trust::kTimestampPath)) return std::nullopt;
  Last last;
  last.timestamp = directory.read_all(trust::kTimestampPath, trust::kMostTimestampBytes);
  const auto snapshot = trust::read_pointer(last.timestamp, "timestamp", directory.shown(trust::kTimestampPath));
  last.snapshot = directory.read_all(snapshot.path, trust::kMostMetadataBytes);
  const auto targets = trust::read_pointer(last.snapshot, "snapshot", directory.shown(snapshot.path));
  last.targets = directory.read_all(targets.path, trust::kMostMetadataBytes);
  last.indexes = trust::read_indexes(last.targets, directory.shown(targets.path));
  return last;
}

/// Is it signed as the root asks, with at least half of its life left?
bool is_good(const trust::Root& root, trust::Root::Of role, const std::string& text, std::int64_t now) {
  try {
    return root.verified(text, role, "").expires() - now >= trust::validity(role) / 2;
  } catch (const Error&) {
    return false;
  }
}

/// Do the documents name just this index, and are those that sign for it still good?
bool stands(os::FileReader& directory, const Last& last, const trust::Pointer& index, const trust::Pointer& paths,
            const std::optional<trust::Root>& root, std::int64_t now) {
  const auto is_there = [&](const trust::Pointer& before, const trust::Pointer& now_made) {
    return before.digest == now_made.digest && before.length == now_made.length && directory.stat(before.path);
  };
  if (!is_there(last.indexes.full, index) || !last.indexes.paths || !is_there(*last.indexes.paths, paths)) return false;
  return !root || (is_good(*root, trust::Root::Of::Targets, last.targets, now) &&
                   is_good(*root, trust::Root::Of::Snapshot, last.snapshot, now));
}

}  // namespace

Published publish(os::FileSystem& directory, std::int64_t now, Observer& observer, const PublishKeys& keys) {
  const auto rules = read_rules(directory);
  const auto files = package_files(directory);
  std::vector<IndexLine> lines;
  std::set<std::string> channels;
  PathIndexWriter path_writer;
  observer.begin("reading packages", files.size(), Observer::Unit::Items);
  for (const std::string& path : files) {
    lines.push_back(describe(directory, path, rules, path_writer));
    channels.insert(lines.back().channel);
    observer.progress(lines.size());
  }
  observer.end();

  const auto root = root_for(directory, keys, now);
  Published published;
  published.packages = lines.size();
  published.channels.assign(channels.begin(), channels.end());
  if (root) {
    const trust::Root first = read_root(directory, 1);
    published.root = root->version();
    published.fingerprint = first.document().fingerprint();
    published.fingerprint_text = first.fingerprint_text();
  }
  const std::string content = archive::compress_frame(index_text(lines), kIndexLevel);
  const std::string path_content = path_writer.finish();
  trust::Pointer index{"", 0, content.size(), sha256(content)}, paths{"", 0, path_content.size(), sha256(path_content)};
  const auto last = last_published(directory);
  std::optional<trust::Signing> signing;
  if (root)
    signing.emplace(trust::Signing{
        *root, keys.ring, last ? trust::version_of(last->timestamp, directory.shown(trust::kTimestampPath)) + 1 : 1});
  if (last) {
    published.version = last->indexes.full.version;
    if (stands(directory, *last, index, paths, root, now)) {
      if (root && (keys.renew || !is_good(*root, trust::Root::Of::Timestamp, last->timestamp, now))) {
        const std::string shown = directory.shown(trust::kTimestampPath);
        directory.replace_file(trust::kTimestampPath, trust::renewed_timestamp(last->timestamp, now, *signing, shown),
                               0644);
        published.renewed = true;
      }
      return published;
    }
  }
  published.changed = true;
  ++published.version;
  index.path = trust::index_path(published.version);
  paths.path = trust::paths_path(published.version);
  const trust::Metadata made =
      trust::make_metadata(published.version, {index, paths}, now, signing ? &*signing : nullptr);
  directory.make_directories("index");
  directory.make_directories("trust");
  directory.replace_file(index.path, content, 0644);
  directory.replace_file(paths.path, path_content, 0644);
  directory.replace_file(made.targets_path, made.targets, 0644);
  directory.replace_file(made.snapshot_path, made.snapshot, 0644);
  directory.replace_file(trust::kTimestampPath, made.timestamp, 0644);
  drop_old(directory, published.version);
  return published;
}

}  // namespace hambrel::repo
