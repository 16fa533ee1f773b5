#include "operations/publishing.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/found_relations.h"
#include "base/error.h"
#include "base/text.h"
#include "model/manifest.h"
#include "operations/subset.h"
#include "os/host.h"
#include "repo/publish_promote.h"

namespace hambrel::operations {

namespace {

std::unique_ptr<os::FileSystem> open_directory(const std::string& path) {
  const auto host = os::open_file_system("/");
  const auto info = host->stat_followed(os::host_path(path));
  if (!info || info->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory does not exist", path, "check the path");
  return os::open_file_system(path);
}

bool is_named(const std::vector<Constraint>& list, const std::string& name) {
  return std::any_of(list.begin(), list.end(), [&](const Constraint& one) { return one.name == name; });
}

void add_unstated(os::FileReader& source, Packed& packed) {
  const Package& package = packed.written.package;
  const archive::FoundRelations found = archive::find_relations(source, "root");
  for (const Constraint& one : found.provides)
    if (one.name != package.name && !is_named(package.provides, one.name)) packed.brings.push_back(one.text());
  for (const archive::FoundNeed& need : found.needs) {
    if (need.kind == archive::FoundNeed::Kind::Link) continue;
    const auto constraint = need.constraint();
    const bool is_stated =
        constraint && std::any_of(package.requires_.begin(), package.requires_.end(),
                                  [&](const Relation& one) { return is_named(one.alternatives, constraint->name); });
    if (!is_stated) packed.needs.push_back(need.text);
  }
}

}  // namespace

Packed pack_into(const PackRequest& request, const Package& package, const WritePackage& write) {
  archive::WriteOptions options;
  options.latest_mtime = os::source_date_epoch(0);
  options.level = request.level;
  std::vector<trust::PrivateKey> keys;
  for (const std::string& key : request.keys) keys.push_back(read_private_key(key, request.passphrase));
  if (!keys.empty()) options.sign = [&](const Digest& table) { return signatures_by(keys, table); };
  Packed packed;
  packed.file = request.output;
  const auto host = os::open_file_system("/");
  if (packed.file.empty()) {  // as a repository has it
    packed.file = fmt::format("{}/{}.{}.hambrel", package.name, package.version.text(), package.arch);
    host->make_directories(os::host_path(package.name));
  }
  const std::string path = os::host_path(packed.file), part = path + ".part";
  if (const auto there = host->stat_followed(path); there && there->type == os::FileType::Directory)
    throw Error(ErrorCode::Usage, "is a directory, not the name of a package file", packed.file,
                fmt::format("for example {}", os::join_path(packed.file, package.name + ".hambrel")));
  const auto parent = host->stat_followed(os::parent_of(path));
  if (!parent || parent->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory for the package file is missing", packed.file, "make it first");
  if (host->stat(part)) host->remove_file(part);
  const auto file = host->create(part, request.mode);
  try {
    packed.written = write(*file, options);
    file->sync();
    host->rename(part, path);
  } catch (const Error&) {
    host->remove_file(part);
    throw;
  }
  return packed;
}

Packed pack(const PackRequest& request, Observer& observer) {
  const auto source = open_directory(request.directory);
  if (!source->stat_followed("package.toml"))
    throw Error(ErrorCode::NotFound, "package.toml is missing", request.directory,
                "write one; `man package.toml` explains it");
  const PackageSource description =
      parse_package_toml(source->read_all("package.toml", 1 << 20), source->shown("package.toml"));
  Packed packed =
      pack_into(request, description.package, [&](os::WritableFile& file, const archive::WriteOptions& options) {
        return archive::write_package(*source, "root", description, file, options, observer);
      });
  add_unstated(*source, packed);
  return packed;
}

namespace {

trust::Root::Of role_of(const std::string& name, const char* option) {
  const auto role = trust::role_named(name);
  if (!role)
    throw Error(ErrorCode::Usage, fmt::format("{}: \"{}\" is not a role", option, printable(name)), {},
                "the roles are root, targets, snapshot and timestamp");
  return *role;
}

/// ROLE=NUMBER
std::pair<trust::Root::Of, std::uint64_t> numbered(const std::string& text, const char* option) {
  const auto equals = text.find('=');
  const auto number = equals == std::string::npos ? std::nullopt : parse_number(text.substr(equals + 1));
  constexpr std::uint64_t kMost = 36500;
  if (!number || *number == 0 || *number > kMost)
    throw Error(ErrorCode::Usage, fmt::format("{} {}: must be ROLE=NUMBER", option, printable(text)), {},
                fmt::format("for example {} targets=2", option));
  return {role_of(text.substr(0, equals), option), *number};
}

trust::KeyRing ring_of(const PublishRequest& request) {
  trust::KeyRing ring;
  if (!request.keys.empty()) ring = read_keys(request.keys, request.passphrase);
  for (const std::string& given : request.key_files) {
    const auto equals = given.find('=');
    const auto role = equals == std::string::npos ? std::nullopt : trust::role_named(given.substr(0, equals));
    const std::string file = role ? given.substr(equals + 1) : given;
    ring.emplace_back(role ? given : "=" + given, read_private_key(file, request.passphrase));
  }
  return ring;
}

}  // namespace

Published publish(const PublishRequest& request, Observer& observer) {
  auto directory = open_directory(request.directory);
  repo::PublishKeys keys;
  keys.where = request.keys;
  keys.root.first = request.init;
  for (const std::string& role : request.rotate) keys.root.rotated.push_back(role_of(role, "--rotate"));
  for (const std::string& one : request.thresholds) keys.root.thresholds.insert(numbered(one, "--threshold"));
  for (const std::string& one : request.expires) {
    const auto [role, days] = numbered(one, "--expires");
    keys.validities[role] = static_cast<std::int64_t>(days) * trust::kDay;
  }
  keys.renew = request.renew;
  keys.finish = request.finish;
  if ((keys.finish || keys.renew) && (keys.root.any() || (keys.finish && keys.renew)))
    throw Error(ErrorCode::Usage,
                "--finish goes on with what was begun, --renew signs only the timestamp: neither goes "
                "with the other, nor with --init, --rotate and --threshold");
  keys.ring = ring_of(request);
  std::size_t copied = 0;
  if (!request.subset.empty()) {
    const auto host = os::open_file_system("/");
    host->make_directories(os::host_path(request.target));
    auto target = open_directory(request.target);
    std::vector<std::unique_ptr<os::FileSystem>> others;
    std::vector<os::FileSystem*> from{directory.get()};
    for (const std::string& one : request.with) {
      others.push_back(open_directory(one));
      from.push_back(others.back().get());
    }
    copied = copy_subset(from, *target, request.subset, os::machine_architecture(), observer).copied;
    directory = std::move(target);
  }
  std::vector<std::string> promoted;
  if (!request.promote.empty()) promoted = repo::promote(*directory, request.promote, request.from, request.to);
  if (request.list_recipes && !keys.renew && !keys.finish) keys.recipes = request.list_recipes(*directory);
  Published published = repo::publish(*directory, os::source_date_epoch(os::now()), observer, keys);
  published.promoted = std::move(promoted);
  published.copied = copied;
  return published;
}

}  // namespace hambrel::operations
