#include "repo/source.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::repo {

namespace {

constexpr const char* kIndexEnd = ".jsonl.zst";
constexpr const char* kDeltaEnd = ".delta.zst";
constexpr const char* kNoteEnd = ".note.json";
constexpr const char* kAdvisoriesEnd = ".advisories.image";
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

std::string cached_delta(const std::string& repository, const Digest& digest) {
  return index_cache_file(repository, (digest.hex() + kDeltaEnd).c_str());
}

std::string cached_note(const std::string& repository, const Digest& digest) {
  return index_cache_file(repository, (digest.hex() + kNoteEnd).c_str());
}

std::string cached_advisories(const std::string& repository, const Digest& digest) {
  return index_cache_file(repository, (digest.hex() + kAdvisoriesEnd).c_str());
}

void drop_other_indexes(os::FileSystem& root, const std::string& repository, const Source& used) {
  const std::string directory = fmt::format("{}/{}", kIndexCache, repository);
  std::set<std::string> keep{cached_index(root, repository, used.base)};
  for (const Digest& one : used.deltas) keep.insert(cached_delta(repository, one));
  for (const auto* const one : {&used.advisories, &used.news, &used.recipes})
    if (*one) keep.insert(cached_note(repository, (*one)->digest));
  if (used.advisories) keep.insert(cached_advisories(repository, used.advisories->digest));
  try {
    for (const std::string& name : root.list(directory)) {
      const bool is_index = name.ends_with(kIndexEnd) || name.ends_with(kDeltaEnd) || name.ends_with(kNoteEnd) ||
                            name.ends_with(kAdvisoriesEnd);
      if (const std::string path = os::join_path(directory, name); is_index && !keep.contains(path))
        root.remove_file(path);
    }
  } catch (const Error&) {  // they are in nobody's way, and the next refresh tries again
  }
}

std::string marks_of(os::FileReader& root, const std::string& repository, const Source& source) {
  std::string marks = mark_of(root, cached_index(root, repository, source.base));
  for (const Digest& one : source.deltas) {
    const std::string mark = mark_of(root, cached_delta(repository, one));
    if (mark.empty() || marks.empty()) return {};
    marks += " " + mark;
  }
  return marks;
}

IndexInput cached_input(os::FileReader& root, const settings::Repository& repository, const Source& source) {
  IndexInput input;
  input.repository = repository.name;
  input.digest = source.digest;
  input.base = source.base;
  input.file = cached_index(root, repository.name, source.base);
  input.where = root.shown(input.file);
  for (const Digest& one : source.deltas) input.deltas.push_back({one, "", cached_delta(repository.name, one)});
  return input;
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

trust::Pointer pointer_in(const JsonObject& object, std::uint64_t version) {
  return {object.text("path"), version, object.number("length"), digest_in(object, "sha256")};
}

Json to_json(const trust::Pointer& pointer) {
  return {{"path", pointer.path}, {"length", pointer.length}, {"sha256", pointer.digest.hex()}};
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
  source.base = object.has("base") ? digest_in(object, "base") : source.digest;
  for (const std::string& one : object.texts_or_none("deltas"))
    source.deltas.push_back(Digest::from_hex(one).value_or(Digest{}));
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
    source.paths = pointer_in(JsonObject(object.member("paths"), root.shown(path)), source.version);
    if (object.has("paths_deltas"))
      for (const Json& one : object.member("paths_deltas"))
        source.paths_deltas.push_back(pointer_in(JsonObject(one, root.shown(path)), source.version));
  }
  for (const auto& [into, key] : {std::pair(&source.advisories, "advisories"), std::pair(&source.news, "news"),
                                  std::pair(&source.recipes, "recipes")})
    if (object.has(key)) *into = pointer_in(JsonObject(object.member(key), root.shown(path)), source.version);
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
  if (!source.deltas.empty()) {
    object["base"] = source.base.hex();
    for (const Digest& one : source.deltas) object["deltas"].push_back(one.hex());
  }
  if (source.paths) object["paths"] = to_json(*source.paths);
  if (source.advisories) object["advisories"] = to_json(*source.advisories);
  if (source.recipes) object["recipes"] = to_json(*source.recipes);
  if (source.news) object["news"] = to_json(*source.news);
  for (const trust::Pointer& one : source.paths_deltas) object["paths_deltas"].push_back(to_json(one));
  root.replace_file(index_cache_file(repository.name, "source.json"), canonical(object), 0644);
}

}  // namespace hambrel::repo
