#include "repo/metadata.h"

#include <fmt/format.h>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::repo {

namespace {

constexpr const char* kSpecVersion = "1.0.33";
constexpr std::int64_t kValidSeconds = 365LL * 24 * 3600;

std::string document(const char* type, std::uint64_t version, std::int64_t now, Json rest) {
  rest["_type"] = type;
  rest["spec_version"] = kSpecVersion;
  rest["version"] = version;
  rest["expires"] = utc_text(now + kValidSeconds);
  return canonical({{"signed", std::move(rest)}, {"signatures", Json::array()}});
}

Json described(const std::string& content) {
  return {{"length", content.size()}, {"hashes", {{"sha256", sha256(content).hex()}}}};
}

Pointer pointer_from(const Json& value, std::string path, const std::string& where) {
  const JsonObject object(value, where);
  Pointer pointer;
  pointer.path = std::move(path);
  pointer.version = object.number_or("version", 0);
  pointer.length = object.number("length");
  const auto digest = Digest::from_hex(JsonObject(object.member("hashes"), where).text("sha256"));
  if (!digest) object.wrong("hashes", "a sha256 of 64 hexadecimal digits");
  pointer.digest = *digest;
  return pointer;
}

}  // namespace

Metadata make_metadata(std::uint64_t version, const Pointer& index, std::int64_t now) {
  Metadata made;
  made.targets_path = fmt::format("trust/{}.targets.json", version);
  made.snapshot_path = fmt::format("trust/{}.snapshot.json", version);
  const Json target = {{"length", index.length}, {"hashes", {{"sha256", index.digest.hex()}}}};
  made.targets = document("targets", version, now, {{"targets", {{index.path, target}}}});
  Json meta = described(made.targets);
  meta["version"] = version;
  made.snapshot = document("snapshot", version, now, {{"meta", {{"targets.json", meta}}}});
  meta = described(made.snapshot);
  meta["version"] = version;
  made.timestamp = document("timestamp", version, now, {{"meta", {{"snapshot.json", meta}}}});
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

Pointer read_index_pointer(std::string_view text, const std::string& where) {
  const Json whole = parse_json(text, where);
  const JsonObject content(JsonObject(whole, where).member("signed"), where);
  if (content.text("_type") != "targets") content.wrong("_type", "\"targets\"");
  Pointer newest;
  for (const auto& [path, value] : content.member("targets").items()) {
    if (!path.starts_with("index/full-") || !path.ends_with(".jsonl.zst")) continue;
    const auto number = parse_number(std::string_view(path).substr(11, path.size() - 11 - 10));
    if (!number || (!newest.path.empty() && *number <= newest.version)) continue;
    newest = pointer_from(value, path, where);
    newest.version = *number;
  }
  if (newest.path.empty()) throw Error(ErrorCode::Invalid, "names no index", where, "tell who keeps the repository");
  return newest;
}

void check_content(std::string_view content, const Pointer& pointer, const std::string& where) {
  if (content.size() == pointer.length && sha256(content) == pointer.digest) return;
  throw Error(
      ErrorCode::Untrusted,
      fmt::format("is not what {} promises (its digest differs)",
                  pointer.path.starts_with("index/") ? "the list of targets" : "the repository"),
      where,
      "the repository may be changing at this moment: try `hambrel refresh` again; if it stays, tell who keeps it");
}

}  // namespace hambrel::repo
