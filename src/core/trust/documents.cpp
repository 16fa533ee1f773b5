#include "trust/documents.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::trust {

namespace {

constexpr std::int64_t kUnsignedSeconds = 365 * kDay;

SignedDocument document(Root::Of role, std::uint64_t version, std::int64_t expires, Json rest) {
  rest["_type"] = Root::name_of(role);
  rest["spec_version"] = kSpecVersion;
  rest["version"] = version;
  rest["expires"] = utc_text(expires);
  return SignedDocument::make(std::move(rest));
}

Json described(const std::string& content) {
  return {{"length", content.size()}, {"hashes", {{"sha256", sha256(content).hex()}}}};
}

Pointer pointer_from(const Json& value, std::string path, const std::string& where) {
  const JsonObject object(value, where);
  Pointer pointer;
  pointer.path = std::move(path);
  pointer.version = object.number_or("version", 0);
  // of a document TUF has both only if the repository wants it
  const bool is_document = pointer.path.empty();
  pointer.length = is_document ? object.number_or("length", kMostMetadataBytes) : object.number("length");
  pointer.has_digest = !is_document || object.has("hashes");
  if (!pointer.has_digest) return pointer;
  const auto digest = Digest::from_hex(JsonObject(object.member("hashes"), where).text("sha256"));
  if (!digest) object.wrong("hashes", "a sha256 of 64 hexadecimal digits");
  pointer.digest = *digest;
  return pointer;
}

/// 7 of "index/full-7.jsonl.zst", 6 and 7 of "index/delta-6-7.jsonl.zst"
std::vector<std::uint64_t> numbers_in(std::string_view path) {
  const std::size_t dash = path.find('-'), dot = path.find('.');
  std::vector<std::uint64_t> numbers;
  if (dash == std::string_view::npos || dot == std::string_view::npos || dot < dash) return numbers;
  for (const std::string_view part : split(path.substr(dash + 1, dot - dash - 1), '-'))
    if (const auto number = parse_number(part))
      numbers.push_back(*number);
    else
      return {};
  return numbers;
}

}  // namespace

std::string index_path(std::uint64_t version) { return fmt::format("index/full-{}.jsonl.zst", version); }
std::string paths_path(std::uint64_t version) { return fmt::format("index/files-{}.zst", version); }
std::string recipes_path(std::uint64_t version) { return fmt::format("index/recipes-{}.json", version); }
std::string advisories_path(std::uint64_t version) { return fmt::format("index/advisories-{}.json", version); }
std::string news_path(std::uint64_t version) { return fmt::format("index/news-{}.json", version); }
std::string delta_path(std::uint64_t from, std::uint64_t to) {
  return fmt::format("index/delta-{}-{}.jsonl.zst", from, to);
}
std::string paths_delta_path(std::uint64_t from, std::uint64_t to) {
  return fmt::format("index/files-{}-{}.zst", from, to);
}

std::string snapshot_path(std::uint64_t version) { return fmt::format("trust/{}.snapshot.json", version); }
std::string targets_path(std::uint64_t version) { return fmt::format("trust/{}.targets.json", version); }

std::string path_by_digest(const Pointer& file) {
  const auto slash = file.path.rfind('/') + 1;  // 0 where there is none
  return file.path.substr(0, slash) + file.digest.hex() + "." + file.path.substr(slash);
}

SignedDocument make_targets(std::uint64_t version, const Indexes& indexes, std::int64_t expires) {
  Json targets = Json::object();
  const auto add = [&](const Pointer& one) {
    targets[one.path] = {{"length", one.length}, {"hashes", {{"sha256", one.digest.hex()}}}};
  };
  add(indexes.full);
  for (const auto* one : {&indexes.paths, &indexes.advisories, &indexes.news, &indexes.recipes})
    if (*one) add(**one);
  for (const auto* deltas : {&indexes.deltas, &indexes.paths_deltas})
    for (const Delta& one : *deltas) add(one);
  return document(Root::Of::Targets, version, expires, {{"targets", std::move(targets)}});
}

SignedDocument make_snapshot(std::uint64_t version, const std::string& targets, std::int64_t expires) {
  Json meta = described(targets);
  meta["version"] = version;
  return document(Root::Of::Snapshot, version, expires, {{"meta", {{"targets.json", std::move(meta)}}}});
}

SignedDocument make_timestamp(std::uint64_t version, std::uint64_t snapshot_version, const std::string& snapshot,
                              std::int64_t expires) {
  Json meta = described(snapshot);
  meta["version"] = snapshot_version;
  return document(Root::Of::Timestamp, version, expires, {{"meta", {{"snapshot.json", std::move(meta)}}}});
}

Metadata make_metadata(std::uint64_t version, const Indexes& indexes, std::int64_t now) {
  const std::int64_t expires = now + kUnsignedSeconds;
  Metadata made;
  made.targets_path = targets_path(version);
  made.snapshot_path = snapshot_path(version);
  made.targets = make_targets(version, indexes, expires).text();
  made.snapshot = make_snapshot(version, made.targets, expires).text();
  made.timestamp = make_timestamp(version, version, made.snapshot, expires).text();
  return made;
}

Pointer read_pointer(std::string_view text, std::string_view type, const std::string& where) {
  const Json whole = parse_json(text, where);
  const JsonObject content(JsonObject(whole, where).member("signed"), where);
  if (content.text("_type") != type) content.wrong("_type", fmt::format("\"{}\"", type));
  const std::string next = type == "timestamp" ? "snapshot" : "targets";
  const JsonObject meta(content.member("meta"), where);
  Pointer pointer = pointer_from(meta.member(next + ".json"), "", where);
  pointer.path = fmt::format("trust/{}.{}.json", pointer.version, next);
  return pointer;
}

std::uint64_t version_of(std::string_view text, const std::string& where) {
  const Json whole = parse_json(text, where);
  return JsonObject(JsonObject(whole, where).member("signed"), where).number_or("version", 0);
}

Indexes read_indexes(std::string_view text, const std::string& where) {
  const Json whole = parse_json(text, where);
  const JsonObject content(JsonObject(whole, where).member("signed"), where);
  if (content.text("_type") != "targets") content.wrong("_type", "\"targets\"");
  Pointer full, paths, advisories, news, recipes;
  Indexes indexes;
  for (const auto& [path, value] : content.member("targets").items()) {
    const std::vector<std::uint64_t> numbers = numbers_in(path);
    for (const auto& [kind, name] :
         {std::pair(&full, &index_path), std::pair(&paths, &paths_path), std::pair(&advisories, &advisories_path),
          std::pair(&news, &news_path), std::pair(&recipes, &recipes_path)}) {
      if (numbers.size() != 1 || path != name(numbers[0])) continue;
      if (!kind->path.empty() && numbers[0] <= kind->version) continue;
      *kind = pointer_from(value, path, where);
      kind->version = numbers[0];
    }
    for (const auto& [kind, name] :
         {std::pair(&indexes.deltas, &delta_path), std::pair(&indexes.paths_deltas, &paths_delta_path)}) {
      if (numbers.size() != 2 || path != name(numbers[0], numbers[1]) || numbers[0] >= numbers[1]) continue;
      Delta delta;
      static_cast<Pointer&>(delta) = pointer_from(value, path, where);
      delta.from = numbers[0];
      delta.version = numbers[1];
      kind->push_back(std::move(delta));
    }
  }
  if (full.path.empty()) throw Error(ErrorCode::Invalid, "names no index", where, "tell the repository's maintainer");
  indexes.full = std::move(full);
  for (const auto& [kind, into] : {std::pair(&paths, &indexes.paths), std::pair(&advisories, &indexes.advisories),
                                   std::pair(&news, &indexes.news), std::pair(&recipes, &indexes.recipes)})
    if (!kind->path.empty()) *into = std::move(*kind);
  for (auto* const deltas : {&indexes.deltas, &indexes.paths_deltas})
    std::sort(deltas->begin(), deltas->end(), [](const Delta& a, const Delta& b) {
      return std::pair(a.from, a.version) < std::pair(b.from, b.version);
    });
  return indexes;
}

void check_content(std::string_view content, const Pointer& pointer, const std::string& where) {
  // without a length, the most that is accepted stands there
  const bool is_long_enough = content.size() == pointer.length || pointer.length == kMostMetadataBytes;
  if (is_long_enough && (!pointer.has_digest || sha256(content) == pointer.digest)) return;
  throw Error(ErrorCode::Untrusted,
              fmt::format("is not what {} describes (its digest differs)",
                          pointer.path.starts_with("index/") ? "the list of targets" : "the repository"),
              where,
              "the repository may be changing at this moment: try `hambrel refresh` again; if this persists, tell its "
              "maintainer");
}

}  // namespace hambrel::trust
