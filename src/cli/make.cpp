// pack and publish.
#include <fmt/format.h>

#include "archive/package_writer.h"
#include "base/json.h"
#include "base/text.h"
#include "cli/session.h"
#include "os/host.h"
#include "repo/publish.h"

namespace hambrel::cli {

namespace {

std::unique_ptr<os::FileSystem> open_directory(const std::string& path) {
  const auto host = os::open_file_system("/");
  const auto info = host->stat_followed(os::host_path(path));
  if (!info || info->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "there is no such directory", path, "check the path");
  return os::open_file_system(path);
}

}  // namespace

int run_pack(Session& session, const Arguments& arguments) {
  const std::string& directory = arguments.words()[0];
  const auto source = open_directory(directory);
  if (!source->stat_followed("package.toml"))
    throw Error(ErrorCode::NotFound, "package.toml is missing", directory,
                "write one; docs/format.md shows how, demo/ has examples");
  const PackageSource description =
      parse_package_toml(source->read_all("package.toml", 1 << 20), source->shown("package.toml"));
  archive::WriteOptions options;
  options.latest_mtime = os::source_date_epoch(0);
  const std::string level_text = arguments.value("level").value_or("9");
  const auto level = parse_number(level_text);
  if (!level || *level < 1 || *level > 19)
    throw Error(ErrorCode::Usage, fmt::format("--level {}: a number from 1 to 19 was expected", printable(level_text)));
  options.level = static_cast<int>(*level);
  const Package& package = description.package;
  const std::string given =
      arguments.value("output").value_or(fmt::format("{}.{}.hambrel", package.version.text(), package.arch));
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(given), part = path + ".part";
  const auto parent = host->stat_followed(os::parent_of(path));
  if (!parent || parent->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory for the package file is missing", given, "make it first");
  if (host->stat(part)) host->remove_file(part);
  const auto file = host->create(part, 0644);
  archive::WrittenPackage written;
  try {
    written = archive::write_package(*source, "root", description, *file, options, session.progress());
    file->sync();
    host->rename(part, path);
  } catch (const Error&) {
    host->remove_file(part);
    throw;
  }
  if (session.json()) {
    session.screen().line(canonical({{"file", given},
                                     {"name", package.name},
                                     {"version", package.version.text()},
                                     {"arch", package.arch},
                                     {"size", written.size},
                                     {"sha256", written.digest.hex()},
                                     {"installed_size", written.package.installed_size},
                                     {"file_count", written.package.file_count}}));
  } else if (!session.quiet()) {
    session.screen().line(fmt::format("{}: {} {}, {} in {} files", given, package.title(), package.arch,
                                      size_text(written.size), written.package.file_count));
  }
  return 0;
}

int run_publish(Session& session, const Arguments& arguments) {
  const auto directory = open_directory(arguments.words()[0]);
  const repo::Published published = repo::publish(*directory, os::source_date_epoch(os::now()), session.progress());
  if (session.json()) {
    session.screen().line(canonical({{"index", published.version},
                                     {"changed", published.changed},
                                     {"packages", published.packages},
                                     {"channels", published.channels}}));
  } else if (!session.quiet()) {
    session.screen().line(fmt::format("{}: index {} {}, {} in {}", arguments.words()[0], published.version,
                                      published.changed ? "written" : "is up to date",
                                      count_text(published.packages, "package version", "package versions"),
                                      published.channels.empty() ? "no channel" : join(published.channels, ", ")));
  }
  return 0;
}

}  // namespace hambrel::cli
