#include "build/sources.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/source_archive.h"
#include "base/error.h"
#include "base/text.h"
#include "os/host.h"
#include "repo/transfer.h"
#include "trust/key.h"

namespace hambrel::build {

namespace {

constexpr std::uint64_t kMostSourceBytes = 8ULL << 30, kMostFolderBytes = 256ULL << 20;
constexpr std::size_t kMostFolderFiles = 10'000;

/// Adds what lies in a directory of the folder to a digest.
void add_all(os::FileReader& files, const std::string& directory, Sha256& digest, std::size_t& count,
             std::uint64_t& bytes) {
  for (const std::string& name : files.list(directory)) {
    if (directory.empty() && (name.starts_with(".") || name.ends_with(".hambrel"))) continue;
    const std::string path = os::join_path(directory, name);
    const auto info = files.stat(path);
    if (!info) continue;
    if (info->type == os::FileType::Directory) {
      add_all(files, path, digest, count, bytes);
      continue;
    }
    bytes += info->size;
    if (++count > kMostFolderFiles || bytes > kMostFolderBytes)
      throw Error(ErrorCode::Invalid, "is too large for the folder of a recipe", files.shown(path),
                  "at most 10,000 files of 256 MiB together; larger sources have a URL");
    constexpr std::uint32_t kRunnable = 0111;
    const bool runs = (info->mode & kRunnable) != 0;
    if (info->type == os::FileType::Regular)
      digest.update(fmt::format("{} {} {}\n", files.digest(path).hex(), runs ? "x" : "-", path));
    else if (info->type == os::FileType::Symlink)
      digest.update(fmt::format("link {} {}\n", files.read_link(path), path));
    else
      throw Error(ErrorCode::Invalid, "is no file, directory or link", files.shown(path), "remove it");
  }
}

void copy_tree(os::FileReader& from, const std::string& path, os::FileSystem& to, const std::string& there) {
  const auto info = from.stat(path);
  if (!info) return;
  if (info->type == os::FileType::Directory) {
    to.make_directories(there);
    for (const std::string& name : from.list(path))
      copy_tree(from, os::join_path(path, name), to, os::join_path(there, name));
    return;
  }
  to.make_directories(os::parent_of(there));
  if (to.stat(there))
    throw Error(ErrorCode::Invalid, fmt::format("two sources bring {}", printable(there)), from.shown(path),
                "give one of them another directory: into = \"...\"");
  if (info->type == os::FileType::Symlink) return to.make_symlink(from.read_link(path), there);
  if (info->type != os::FileType::Regular)
    throw Error(ErrorCode::Invalid, "is no file, directory or link", from.shown(path), "remove it");
  constexpr std::uint32_t kRunnable = 0111;
  const auto source = from.open_itself(path);
  const auto file = to.create(there, (info->mode & kRunnable) != 0 ? 0755 : 0644);
  os::copy_content(*source, *file, from.shown(path));
  file->close();
}

/// What an archive has as its only directory is its content.
std::string content_of(os::FileSystem& files, const std::string& directory) {
  const auto names = files.list(directory);
  if (names.size() != 1) return directory;
  const std::string only = directory + "/" + names[0];
  const auto info = files.stat(only);
  return info && info->type == os::FileType::Directory ? only : directory;
}

class Unpacking {
 public:
  Unpacking(Workshop& workshop, const RecipeFolder& folder, std::string into)
      : files_(workshop.files()), workshop_(workshop), folder_(folder), into_(std::move(into)) {}

  std::int64_t run(const std::vector<Source>& sources) {
    files_.make_directories(into_);
    for (const Source& one : sources) put(one);
    return newest_;
  }

 private:
  void put(const Source& source) {
    const std::string there = source.into.empty() ? into_ : into_ + "/" + source.into;
    if (!source.file.empty()) {
      folder_.require(source.file, "sources.file", source.at);
      const auto info = folder_.files().stat_followed(source.file);
      if (info->type == os::FileType::Directory)
        return copy_tree(folder_.files(), folder_.files().physical(source.file), files_, there);
    }
    const auto file = source.file.empty() ? files_.open_itself(Workshop::source_file(*source.digest))
                                          : folder_.files().open(source.file);
    if (source.digest && os::digest_of(*file, source.name()) != *source.digest)
      throw Error(ErrorCode::Untrusted, "is not the file that the recipe names: its SHA-256 is another one",
                  source.name(), fmt::format("{} has the digest; look at the file before you change it", source.at));
    if (source.unpack && !is_plain_script(source)) return unpack(source, *file, there);
    files_.make_directories(there);
    const auto copy = files_.create(there + "/" + source.name(), 0644);
    os::copy_content(*file, *copy, source.name());
    copy->close();
  }

  /// A file beside the recipe that has not the name of an archive.
  static bool is_plain_script(const Source& source) {
    if (source.file.empty()) return false;
    const std::string name = lower(source.file);
    return std::none_of(kArchives.begin(), kArchives.end(), [&](std::string_view end) { return name.ends_with(end); });
  }

  void unpack(const Source& source, os::ReadableFile& file, const std::string& there) {
    const std::string apart = into_ + ".part";
    remove_whole(files_, apart);
    files_.make_directories(apart);
    const auto place = os::open_file_system(workshop_.on_host(apart));
    newest_ = std::max(newest_, archive::unpack(file, *place, {}, source.name()).newest);
    const std::string content = content_of(files_, apart);
    files_.make_directories(there);
    for (const std::string& name : files_.list(content)) {
      if (files_.stat(there + "/" + name))
        throw Error(ErrorCode::Invalid, fmt::format("two sources bring {}", printable(name)), source.name(),
                    "give one of them a directory of its own: into = \"...\"");
      files_.rename_no_replace(content + "/" + name, there + "/" + name);
    }
    remove_whole(files_, apart);
  }

  static constexpr std::array<std::string_view, 8> kArchives{".tar",     ".tar.gz",  ".tgz", ".tar.xz",
                                                             ".tar.bz2", ".tar.zst", ".zip", ".tar.lz"};
  os::FileSystem& files_;
  Workshop& workshop_;
  const RecipeFolder& folder_;
  const std::string into_;
  std::int64_t newest_ = 0;
};

void check_signature(operations::Root& root, const RecipeFolder& folder, const Source& source, os::FileReader& files,
                     const std::string& path) {
  folder.require(source.key, "signature.key", source.at);
  const trust::PublicKey key = trust::PublicKey::from_pem(folder.files().read_all(source.key, trust::kMostKeyBytes),
                                                          folder.files().shown(source.key));
  repo::Request request;
  request.url = source.signature_url;
  request.limit = trust::kMostKeyBytes;
  const std::string text = root.network().text(std::move(request));
  std::optional<trust::Signature> signature = trust::signature_from_hex(trim(text));
  if (!signature && text.size() == std::tuple_size_v<trust::Signature>) {
    signature.emplace();
    std::copy(text.begin(), text.end(), signature->begin());
  }
  if (!signature || !key.verifies(files.read_all(path, kMostSourceBytes), *signature))
    throw Error(ErrorCode::Untrusted, "is not signed by the key that the recipe names", source.name(),
                "an Ed25519 signature of the file, 64 bytes or 128 hexadecimal digits, is expected");
}

}  // namespace

RecipeFolder::RecipeFolder(const std::string& given, const std::string& machine) : shown_(given) {
  const auto host = os::open_file_system("/");
  std::string path = os::host_path(given);
  auto info = host->stat_followed(path);
  if (info && info->type == os::FileType::Regular && os::name_of(path) == kRecipeFile) {
    path = os::parent_of(path);
    shown_ = os::parent_of(given);
    if (shown_.empty()) shown_ = ".";
    info = host->stat_followed(path);
  }
  if (!info) throw Error(ErrorCode::NotFound, "the recipe does not exist", given, "check the path");
  if (info->type != os::FileType::Directory)
    throw Error(ErrorCode::Invalid, "is no folder with recipe.toml, and no such file", given, "name one of these");
  files_ = os::open_file_system("/" + path);
  if (!files_->stat_followed(kRecipeFile))
    throw Error(ErrorCode::NotFound, "recipe.toml is missing", given, "write one; `man recipe.toml` explains it");
  recipe_ = parse_recipe(files_->read_all(kRecipeFile, kMostRecipeBytes), shown_ + "/" + kRecipeFile, machine);
  Sha256 digest;
  std::size_t count = 0;
  std::uint64_t bytes = 0;
  add_all(*files_, "", digest, count, bytes);
  digest_ = digest.finish();
  std::vector<Source> all = recipe_.sources;
  for (const auto& [name, option] : recipe_.options)
    all.insert(all.end(), option.sources.begin(), option.sources.end());
  for (const Source& one : all) {
    if (!one.file.empty()) require(one.file, "sources.file", one.at);
    if (!one.key.empty()) require(one.key, "signature.key", one.at);
    for (const std::string& patch : one.patches) require(patch, "sources.patches", one.at);
  }
}

void RecipeFolder::require(const std::string& file, const std::string& what, const std::string& at) const {
  if (!files_->stat_followed(file))
    throw Error(ErrorCode::NotFound, fmt::format("{} names {}, which is not there", what, printable(file)), at,
                "put it beside recipe.toml, or take the name out");
}

namespace {

/// Sources on their way into the workshop, each beside its place until it was checked.
class Fetching {
 public:
  Fetching(operations::Root& root, Workshop& workshop, const RecipeFolder& folder)
      : root_(root), files_(workshop.files()), folder_(folder) {}

  void add(const Source& source) {
    const std::string path = Workshop::source_file(*source.digest);
    if (files_.stat(path) && files_.digest(path) == *source.digest) return;
    auto now = std::make_unique<Arriving>();
    now->source = &source;
    now->part = fmt::format("{}.{}", path, os::process_id());
    Arriving* const into = now.get();
    const auto begin = [into, this] {
      into->file.reset();
      if (files_.stat(into->part)) files_.remove_file(into->part);
      into->file = files_.create(into->part, 0600);
    };
    begin();
    repo::Request request;
    request.url = source.url;
    request.limit = kMostSourceBytes;
    request.pace = root_.network().pace();
    request.sink = [into, this](std::string_view data) {
      into->file->write(data);
      fetched_ += data.size();
    };
    request.again = begin;
    requests_.push_back(std::move(request));
    arriving_.push_back(std::move(now));
  }

  ByteCount run(const std::function<bool()>& stop_asked) {
    if (requests_.empty()) return 0;
    root_.observer().begin("fetching sources", 0, Observer::Unit::Bytes);
    const EndOfProgress end(root_.observer());
    root_.network().fetch(requests_, root_.observer(), stop_asked);
    std::optional<Error> problem;
    for (std::size_t i = 0; i < requests_.size(); ++i) {
      Arriving& one = *arriving_[i];
      try {
        take(one, requests_[i]);
      } catch (const Error& failed) {
        one.file.reset();
        if (files_.stat(one.part)) files_.remove_file(one.part);
        if (!problem) problem = failed;
      }
    }
    if (problem) throw Error(*problem);
    return fetched_;
  }

 private:
  struct Arriving {
    const Source* source;
    std::string part;
    std::unique_ptr<os::WritableFile> file{};
  };

  void take(Arriving& one, const repo::Request& request) {
    const std::string shown = shown_url(one.source->url);
    if (request.problem)
      throw Error(request.problem->code(), request.problem->problem(), shown,
                  fmt::format("{} names it: check the URL and the network", one.source->at));
    one.file->close();
    one.file.reset();
    if (files_.digest(one.part) != *one.source->digest)
      throw Error(ErrorCode::Untrusted, "is not the file that the recipe names: its SHA-256 is another one", shown,
                  fmt::format("{} has the digest; look at the file before you change it", one.source->at));
    if (!one.source->key.empty()) check_signature(root_, folder_, *one.source, files_, one.part);
    files_.rename(one.part, Workshop::source_file(*one.source->digest));
  }

  operations::Root& root_;
  os::FileSystem& files_;
  const RecipeFolder& folder_;
  std::vector<std::unique_ptr<Arriving>> arriving_;
  std::vector<repo::Request> requests_;
  ByteCount fetched_ = 0;
};

}  // namespace

ByteCount fetch_sources(operations::Root& root, Workshop& workshop, const RecipeFolder& folder,
                        const std::vector<Source>& sources, const std::function<bool()>& stop_asked) {
  Fetching fetching(root, workshop, folder);
  for (const Source& one : sources)
    if (!one.url.empty()) fetching.add(one);
  return fetching.run(stop_asked);
}

std::int64_t unpack_sources(Workshop& workshop, const RecipeFolder& folder, const std::vector<Source>& sources,
                            const std::string& into) {
  return Unpacking(workshop, folder, into).run(sources);
}

}  // namespace hambrel::build
