#include "base/json.h"

#include <fmt/format.h>

#include <set>

#include "base/error.h"

namespace hambrel {

namespace {

constexpr int kDeepest = 64;

}  // namespace

Json parse_json(std::string_view text, std::string_view where) {
  // One set of seen keys for each open object: nlohmann itself silently takes the last of two equal keys.
  std::vector<std::set<std::string>> seen;
  const auto watch = [&](int depth, Json::parse_event_t event, Json& parsed) {
    if (depth > kDeepest)
      throw Error(ErrorCode::Invalid, fmt::format("JSON nested deeper than {} levels", kDeepest), std::string(where));
    if (event == Json::parse_event_t::object_start) seen.emplace_back();
    if (event == Json::parse_event_t::object_end) seen.pop_back();
    if (event == Json::parse_event_t::key && !seen.back().insert(parsed.get<std::string>()).second)
      throw Error(ErrorCode::Invalid,
                  fmt::format("the key \"{}\" stands twice in one object", parsed.get<std::string>()),
                  std::string(where));
    return true;
  };
  try {
    return Json::parse(text, watch);
  } catch (const Json::parse_error& problem) {
    throw Error(ErrorCode::Invalid, fmt::format("not valid JSON at byte {}", problem.byte), std::string(where));
  }
}

JsonObject::JsonObject(const Json& value, std::string where) : value_(value), where_(std::move(where)) {
  if (!value.is_object()) throw Error(ErrorCode::Invalid, "a JSON object was expected", where_);
}

void JsonObject::wrong(std::string_view key, std::string_view expected) const {
  throw Error(ErrorCode::Invalid,
              has(key) ? fmt::format("\"{}\" must be {}", key, expected)
                       : fmt::format("\"{}\" is missing ({} was expected)", key, expected),
              where_);
}

const Json& JsonObject::member(std::string_view key) const {
  const auto found = value_.find(key);
  if (found == value_.end()) wrong(key, "a value");
  return *found;
}

std::string JsonObject::text(std::string_view key) const {
  const auto found = value_.find(key);
  if (found == value_.end() || !found->is_string()) wrong(key, "a text");
  return found->get<std::string>();
}

std::string JsonObject::text_or(std::string_view key, std::string_view fallback) const {
  return has(key) ? text(key) : std::string(fallback);
}

std::uint64_t JsonObject::number(std::string_view key) const {
  const auto found = value_.find(key);
  if (found == value_.end() || !found->is_number_unsigned()) wrong(key, "a whole number");
  return found->get<std::uint64_t>();
}

std::uint64_t JsonObject::number_or(std::string_view key, std::uint64_t fallback) const {
  return has(key) ? number(key) : fallback;
}

std::int64_t JsonObject::signed_number(std::string_view key) const {
  const auto found = value_.find(key);
  if (found == value_.end() || !found->is_number_integer()) wrong(key, "a whole number");
  if (found->is_number_unsigned() && found->get<std::uint64_t>() > INT64_MAX) wrong(key, "a whole number below 2^63");
  return found->get<std::int64_t>();
}

bool JsonObject::flag_or(std::string_view key, bool fallback) const {
  const auto found = value_.find(key);
  if (found == value_.end()) return fallback;
  if (!found->is_boolean()) wrong(key, "true or false");
  return found->get<bool>();
}

std::vector<std::string> JsonObject::texts_or_none(std::string_view key) const {
  const auto found = value_.find(key);
  if (found == value_.end()) return {};
  if (!found->is_array()) wrong(key, "a list of texts");
  std::vector<std::string> result;
  for (const Json& item : *found) {
    if (!item.is_string()) wrong(key, "a list of texts");
    result.push_back(item.get<std::string>());
  }
  return result;
}

std::string canonical(const Json& value) { return value.dump(-1, ' ', false, Json::error_handler_t::strict); }

}  // namespace hambrel
