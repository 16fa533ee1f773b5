#include "operations/publishing.h"

#include <fmt/format.h>

#include "base/error.h"
#include "model/manifest.h"
#include "os/host.h"

namespace hambrel::operations {

namespace {

std::unique_ptr<os::FileSystem> open_directory(const std::string& path) {
  const auto host = os::open_file_system("/");
  const auto info = host->stat_followed(os::host_path(path));
  if (!info || info->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory does not exist", path, "check the path");
  return os::open_file_system(path);
}

}  // namespace

Packed pack(const PackRequest& request, Observer& observer) {
  const auto source = open_directory(request.directory);
  if (!source->stat_followed("package.toml"))
    throw Error(ErrorCode::NotFound, "package.toml is missing", request.directory,
                "write one; `man package.toml` explains it");
  const PackageSource description =
      parse_package_toml(source->read_all("package.toml", 1 << 20), source->shown("package.toml"));
  archive::WriteOptions options;
  options.latest_mtime = os::source_date_epoch(0);
  options.level = request.level;
  const Package& package = description.package;
  Packed packed;
  packed.file = request.output;
  const auto host = os::open_file_system("/");
  if (packed.file.empty()) {  // as a repository has it
    packed.file = fmt::format("{}/{}.{}.hambrel", package.name, package.version.text(), package.arch);
    host->make_directories(os::host_path(package.name));
  }
  const std::string path = os::host_path(packed.file), part = path + ".part";
  const auto parent = host->stat_followed(os::parent_of(path));
  if (!parent || parent->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory for the package file is missing", packed.file, "make it first");
  if (host->stat(part)) host->remove_file(part);
  const auto file = host->create(part, 0644);
  try {
    packed.written = archive::write_package(*source, "root", description, *file, options, observer);
    file->sync();
    host->rename(part, path);
  } catch (const Error&) {
    host->remove_file(part);
    throw;
  }
  return packed;
}

Published publish(const PublishRequest& request, Observer& observer) {
  const auto directory = open_directory(request.directory);
  repo::PublishKeys keys;
  keys.where = request.keys;
  keys.first = request.init;
  keys.renew = request.renew;
  if (!request.keys.empty()) keys.ring = read_keys(request.keys, request.passphrase);
  return repo::publish(*directory, os::source_date_epoch(os::now()), observer, keys);
}

}  // namespace hambrel::operations
