#include "repo/publish.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "archive/frame_codec.h"
#include "archive/package_reader.h"
#include "base/error.h"
#include "base/toml_table.h"
#include "os/lock.h"
#include "repo/index.h"
#include "repo/path_index.h"

namespace hambrel::repo {

namespace {

constexpr int kIndexLevel = 15;
constexpr const char* kLock = ".publish/lock";  // in a directory of its own, which nobody else enters
constexpr int kLockSeconds = 120;
constexpr std::uint64_t kKeptIndexes = 3;  // clients in the middle of a refresh still find the one they read of

/// repository.toml: [[channel]] name = "beta", packages = ["lampdesk >= 6"]; what no rule names is in "stable".
struct ChannelRule {
  std::string channel;
  std::vector<Constraint> packages;
};

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

struct RepositorySettings {
  std::vector<ChannelRule> rules;
  trust::Validities validities;
};

RepositorySettings read_settings(os::FileReader& directory) {
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
  top.done();
  return settings;
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
    const std::string index = trust::index_path(old), paths = trust::paths_path(old);
    if (!directory.stat(index)) break;
    for (const std::string& name : directory.list("index"))  // under their digests, too
      for (const std::string& path : {index, paths})
        if (("index/" + name).ends_with("." + path.substr(path.rfind('/') + 1))) directory.remove_file("index/" + name);
    for (const std::string& path : {index, paths, trust::snapshot_path(old), trust::targets_path(old)})
      if (directory.stat(path)) directory.remove_file(path);
  }
}

/// What is to be offered, as files of the repository have it.
struct Contents {
  std::string index, paths;
  trust::Indexes indexes{};  // without their numbers
};

Contents read_packages(os::FileSystem& directory, const std::vector<ChannelRule>& rules, Observer& observer,
                       Published& published) {
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
  published.packages = lines.size();
  published.channels.assign(channels.begin(), channels.end());
  Contents contents;
  contents.index = archive::compress_frame(index_text(lines), kIndexLevel);
  contents.paths = path_writer.finish();
  contents.indexes.full = {"", 0, contents.index.size(), sha256(contents.index)};
  contents.indexes.paths = {"", 0, contents.paths.size(), sha256(contents.paths)};
  return contents;
}

/// Do the documents name just this?
bool offers_just(os::FileReader& directory, const Documents& served, const Contents& contents) {
  const auto is_there = [&](const trust::Pointer& before, const trust::Pointer& now_made) {
    return before.digest == now_made.digest && before.length == now_made.length && directory.stat(before.path);
  };
  return is_there(served.indexes.full, contents.indexes.full) && served.indexes.paths &&
         is_there(*served.indexes.paths, *contents.indexes.paths);
}

/// Under its plain name, and under that with its digest.
void write_index(os::FileSystem& directory, const trust::Pointer& file, const std::string& content) {
  directory.replace_file(file.path, content, 0644);
  const std::string by_digest = trust::path_by_digest(file);
  if (directory.stat(by_digest)) directory.remove_file(by_digest);
  try {
    directory.make_hard_link(file.path, by_digest);
  } catch (const Error&) {  // a file system without links
    directory.replace_file(by_digest, content, 0644);
  }
}

void write_indexes(os::FileSystem& directory, Contents& contents, std::uint64_t version) {
  contents.indexes.full.path = trust::index_path(version);
  contents.indexes.paths->path = trust::paths_path(version);
  directory.make_directories("index");
  directory.make_directories("trust");
  write_index(directory, contents.indexes.full, contents.index);
  write_index(directory, *contents.indexes.paths, contents.paths);
}

void publish_unsigned(os::FileSystem& directory, Contents& contents, std::int64_t now, Published& published) {
  write_indexes(directory, contents, published.version);
  const trust::Metadata made = trust::make_metadata(published.version, contents.indexes, now);
  directory.replace_file(made.targets_path, made.targets, 0644);
  directory.replace_file(made.snapshot_path, made.snapshot, 0644);
  directory.replace_file(trust::kTimestampPath, made.timestamp, 0644);
}

void require_use_for_keys(const SigningRound& round, const PublishKeys& keys, const os::FileSystem& directory) {
  const bool asks = keys.root.any() || keys.renew || keys.finish;
  if (round.root() || (keys.ring.empty() && !asks)) return;
  if (keys.ring.empty())
    throw Error(ErrorCode::Refused, "this repository is not signed, and no keys are at hand", directory.shown(""),
                "name their directory with --keys");
  throw Error(ErrorCode::Refused, "there are keys, but no root document that says what each is for",
              directory.shown(""), "--init makes one");
}

/// With signatures.
void publish_signed(os::FileSystem& directory, SigningRound& round, std::optional<Contents> contents, bool renew,
                    Published& published) {
  const auto served = served_documents(directory);
  if (renew && !served)
    throw Error(ErrorCode::Refused, "nothing was published yet", directory.shown(""), "leave out --renew");
  const bool stands = contents && served && offers_just(directory, *served, *contents) && round.is_good(*served);
  if (renew || (stands && !round.is_timestamp_good(*served)))
    published.renewed = round.renew(*served);
  else if (!contents)
    published.changed = round.finish(served);
  else if (stands)
    round.serve_root();
  else {
    ++published.version;
    write_indexes(directory, *contents, published.version);
    published.changed = round.sign(published.version, contents->indexes, served);
  }
  published.missing = round.missing();
  const auto now_served = served_documents(directory);
  published.version = now_served ? now_served->indexes.full.version : 0;
}

}  // namespace

Published publish(os::FileSystem& directory, std::int64_t now, Observer& observer, const PublishKeys& keys) {
  // a timer may sign a timestamp while somebody publishes: one after the other
  const auto lock = os::take_lock(directory, kLock, kLockSeconds, "");
  RepositorySettings settings = read_settings(directory);
  trust::Validities validities = keys.validities;
  validities.merge(settings.validities);  // what was asked for this time counts first
  Published published;
  std::optional<Contents> contents;
  if (!keys.finish && !keys.renew) contents = read_packages(directory, settings.rules, observer, published);

  SigningRound round(directory, keys.ring, keys.where, now, std::move(validities));
  const auto before = served_documents(directory);
  if (keys.root.first && keys.ring.empty())
    throw Error(ErrorCode::Refused, "no keys are at hand", directory.shown(""), "name their directory with --keys");
  if (keys.renew)
    round.keep_to_served_root();
  else
    round.go_on_with_root(keys.root);
  require_use_for_keys(round, keys, directory);
  if (before) published.version = before->indexes.full.version;
  if (!round.root()) {
    if (before && offers_just(directory, *before, *contents)) return published;
    published.changed = true;
    ++published.version;
    publish_unsigned(directory, *contents, now, published);
  } else {
    publish_signed(directory, round, std::move(contents), keys.renew, published);
    if (keys.root.any()) {
      published.asked_root = round.next_root()->version();
      for (const trust::Root::Of role : trust::kRoles) {
        const trust::Role& one = round.next_root()->role(role);
        published.roles.push_back({trust::Root::name_of(role), one.threshold, one.keys});
      }
    }
    published.root = round.root()->version();
    published.root_expires = round.root()->document().expires();
    const std::string first = "trust/1.root.json";
    const std::string first_path = directory.stat(first) ? first : fmt::format("{}/1.root.json", kUnfinished);
    const trust::Root root =
        trust::Root::known(directory.read_all(first_path, trust::kMostMetadataBytes), directory.shown(first_path));
    published.fingerprint = root.document().fingerprint();
    published.fingerprint_text = root.fingerprint_text();
  }
  if (published.changed) drop_old(directory, published.version);
  return published;
}

}  // namespace hambrel::repo
