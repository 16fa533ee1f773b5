// The two JSON libraries behind one small face: values are written through nlohmann (sorted keys, hence canonical),
// and read strictly: UTF-8, no duplicate keys, whole numbers only where a number is asked for.
// Include json_fwd where only the name is needed: the library costs seconds of compile time a file.
#pragma once

#include <cstdint>
#include <nlohmann/json.hpp>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace hambrel {

using Json = nlohmann::json;

/// Parses one document. Throws Error{Invalid} naming `where` and the byte offset for anything that is not strict JSON:
/// bad syntax, broken UTF-8, duplicate keys, nesting deeper than 64.
Json parse_json(std::string_view text, std::string_view where);

/// Reads the members of one object with checked types; every failure names `where` and the member.
class JsonObject {
 public:
  JsonObject(const Json& value, std::string where);
  bool has(std::string_view key) const { return value_.contains(key); }
  const Json& member(std::string_view key) const;
  std::string text(std::string_view key) const;
  std::string text_or(std::string_view key, std::string_view fallback) const;
  std::uint64_t number(std::string_view key) const;
  std::uint64_t number_or(std::string_view key, std::uint64_t fallback) const;
  std::int64_t signed_number(std::string_view key) const;
  bool flag_or(std::string_view key, bool fallback) const;
  std::vector<std::string> texts_or_none(std::string_view key) const;
  /// A list of objects.
  std::vector<JsonObject> objects(std::string_view key) const;
  const std::string& where() const { return where_; }
  /// The same members, told of under another name in messages.
  JsonObject renamed(std::string where) const { return {value_, std::move(where)}; }
  [[noreturn]] void wrong(std::string_view key, std::string_view expected) const;

 private:
  const Json& value_;
  std::string where_;
};

/// The same rules for one document in CBOR (RFC 8949).
Json parse_cbor(std::string_view bytes, std::string_view where);

/// Canonical form: sorted keys, no spaces, UTF-8 as is; what is no UTF-8 is replaced by U+FFFD, so that it never
/// throws.
std::string canonical(const Json& value);

}  // namespace hambrel
