#include "repo/source.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::repo {

namespace {

constexpr const char* kIndexEnd = ".jsonl.zst";
constexpr const char* kOldIndex = "index.jsonl.zst";

}  // namespace

std::string index_cache_file(const std::string& repository, const char* name) {
  return fmt::format("{}/{}/{}", kIndexCache, repository, name);
}

std::string new_cached_index(const std::string& repository, const Digest& digest) {
  return index_cache_file(repository, (digest.hex() + kIndexEnd).c_str());
}

std::string cached_index(os::FileReader& root, const std::string& repository, const Digest& digest) {
  std::string path = new_cached_index(repository, digest);
  return root.stat(path) ? path : index_cache_file(repository, kOldIndex);
}

void drop_other_indexes(os::FileSystem& root, const std::string& repository, const Digest& used) {
  const std::string directory = fmt::format("{}/{}", kIndexCache, repository),
                    keep = cached_index(root, repository, used);
  try {
    for (const std::string& name : root.list(directory))
      if (const std::string path = os::join_path(directory, name); name.ends_with(kIndexEnd) && path != keep)
        root.remove_file(path);
  } catch (const Error&) {  // they are in nobody's way, and the next refresh tries again
  }
}

std::string mark_of(os::FileReader& root, const std::string& path) {
  const auto info = root.stat(path);
  if (!info || info->type != os::FileType::Regular) return {};
  return fmt::format("{}:{}:{}.{:09}", info->inode, info->size, info->mtime_seconds, info->mtime_nanoseconds);
}

namespace {

Digest digest_in(const JsonObject& object, const char* key) {
  return Digest::from_hex(object.text(key)).value_or(Digest{});
}

}  // namespace

std::optional<Source> read_source(os::FileReader& root, const settings::Repository& repository) {
  const std::string path = index_cache_file(repository.name, "source.json");
  if (!repository.problem.empty() || !root.stat(path)) return std::nullopt;
  const Json whole = parse_json(root.read_all(path, 1 << 16), root.shown(path));
  const JsonObject object(whole, root.shown(path));
  Source source;
  source.url = object.text("url");
  source.version = object.number("version");
  source.packages = object.number("packages");
  source.fetched = object.signed_number("fetched");
  source.digest = digest_in(object, "sha256");
  source.timestamp = digest_in(object, "timestamp");
  source.timestamp_version = object.number_or("timestamp_version", 0);
  source.file = object.text_or("file", "");
  source.root = object.number_or("root", 0);
  source.accepted_unsigned = object.flag_or("accepted_unsigned", false);
  source.root_fingerprint = object.text_or("root_fingerprint", "");
  source.signers = object.texts_or_none("signers");
  source.roots_asked = object.has("roots_asked") ? object.signed_number("roots_asked") : 0;
  source.etag = object.text_or("etag", "");
  source.modified = object.text_or("modified", "");
  source.validated_url = object.text_or("validated_url", "");
  source.knows_paths = object.has("paths");
  if (source.knows_paths && !object.member("paths").is_null()) {
    const JsonObject paths(object.member("paths"), root.shown(path));
    source.paths =
        trust::Pointer{paths.text("path"), source.version, paths.number("length"), digest_in(paths, "sha256")};
  }
  // Of another place it is worth nothing, unless it was verified: then it is the repository that is trusted, whatever
  // mirrors it is fetched from.
  const std::vector<std::string> urls = repository.urls();
  const bool is_of_these =
      std::any_of(urls.begin(), urls.end(), [&](const std::string& url) { return shown_url(url) == source.url; });
  if (!is_of_these && (source.root == 0 || urls.size() < 2)) return std::nullopt;
  return source;
}

void write_source(os::FileSystem& root, const settings::Repository& repository, const Source& source) {
  Json object = {{"url", source.url},
                 {"version", source.version},
                 {"packages", source.packages},
                 {"fetched", source.fetched},
                 {"sha256", source.digest.hex()},
                 {"timestamp", source.timestamp.hex()},
                 {"timestamp_version", source.timestamp_version},
                 {"file", source.file},
                 {"paths", nullptr}};
  if (source.accepted_unsigned) object["accepted_unsigned"] = true;
  if (source.root != 0) {
    object["root"] = source.root;
    object["root_fingerprint"] = source.root_fingerprint;
    object["signers"] = source.signers;
    object["roots_asked"] = source.roots_asked;
  }
  if (!source.validated_url.empty()) {
    object["etag"] = source.etag;
    object["modified"] = source.modified;
    object["validated_url"] = source.validated_url;
  }
  if (source.paths)
    object["paths"] = {
        {"path", source.paths->path}, {"length", source.paths->length}, {"sha256", source.paths->digest.hex()}};
  root.replace_file(index_cache_file(repository.name, "source.json"), canonical(object), 0644);
}

}  // namespace hambrel::repo
