#include "base/json_reader.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/simdjson_library.h"
#include "base/text.h"

namespace hambrel {

namespace {

constexpr std::size_t kDeepest = 64;
constexpr std::size_t kMostKeys = 10'000;  // of one object

void refuse_twins(simdjson::dom::object object, const std::string& where);

void refuse_twins_below(simdjson::dom::element value, const std::string& where) {  // at most kDeepest levels
  simdjson::dom::object object;
  simdjson::dom::array array;
  if (value.get(object) == simdjson::SUCCESS) return refuse_twins(object, where);
  if (value.get(array) == simdjson::SUCCESS)
    for (const simdjson::dom::element one : array) refuse_twins_below(one, where);
}

void refuse_twins(simdjson::dom::object object, const std::string& where) {
  bool ascending = true;  // as canonical JSON has them: then none stands twice
  std::string_view last;
  std::vector<std::string_view> keys;
  for (auto one = object.begin(); one != object.end(); ++one) {
    const std::string_view key = one.key();
    ascending = ascending && (keys.empty() || last < key);
    keys.push_back(last = key);
    if (keys.size() > kMostKeys)
      throw Error(ErrorCode::Invalid, fmt::format("an object has more than {} keys", kMostKeys), where);
    refuse_twins_below(one.value(), where);
  }
  if (ascending) return;
  std::sort(keys.begin(), keys.end());
  if (const auto twin = std::adjacent_find(keys.begin(), keys.end()); twin != keys.end())
    throw Error(ErrorCode::Invalid, fmt::format("the key \"{}\" appears twice in one object", printable(*twin)), where);
}

}  // namespace

FastObject JsonReader::parse(std::string_view text, const std::string& where) {
  padded_.assign(text);
  padded_.resize(text.size() + simdjson::SIMDJSON_PADDING);
  if (parser_.capacity() < text.size() || parser_.max_depth() != kDeepest) {
    load_simdjson();
    if (parser_.allocate(std::max<std::size_t>(text.size(), 4096), kDeepest) != simdjson::SUCCESS)
      throw Error(ErrorCode::Internal, "no memory for JSON", where);
  }
  simdjson::dom::element document;
  if (const auto error = parser_.parse(padded_.data(), text.size(), false).get(document); error != simdjson::SUCCESS)
    throw Error(ErrorCode::Invalid, fmt::format("not valid JSON: {}", simdjson_message(error)), where);
  simdjson::dom::object object;
  if (document.get(object) != simdjson::SUCCESS) throw Error(ErrorCode::Invalid, "it must be a JSON object", where);
  refuse_twins(object, where);
  return {object, where};
}

FastObject::FastObject(simdjson::dom::object object, std::string where) : where_(std::move(where)) {
  Members members;
  members.reserve(object.size());
  for (const auto& [name, value] : object) members.emplace_back(name, value);
  members_ = std::make_shared<const Members>(std::move(members));
}

std::optional<simdjson::dom::element> FastObject::find(std::string_view key) const {
  for (const auto& [name, value] : *members_)
    if (name == key) return value;
  return std::nullopt;
}

void FastObject::wrong(std::string_view key, std::string_view expected) const {
  throw Error(ErrorCode::Invalid,
              has(key) ? fmt::format("\"{}\" must be {}", key, expected)
                       : fmt::format("\"{}\" is missing (it must be {})", key, expected),
              where_);
}

FastObject FastObject::object(std::string_view key) const {
  const auto found = find(key);
  simdjson::dom::object below;
  if (!found || found->get(below) != simdjson::SUCCESS) wrong(key, "an object");
  return {below, where_};
}

std::string FastObject::text(std::string_view key) const {
  const auto found = find(key);
  std::string_view value;
  if (!found || found->get(value) != simdjson::SUCCESS) wrong(key, "a text");
  return std::string(value);
}

std::string FastObject::text_or(std::string_view key, std::string_view fallback) const {
  const auto found = find(key);
  if (!found) return std::string(fallback);
  std::string_view value;
  if (found->get(value) != simdjson::SUCCESS) wrong(key, "a text");
  return std::string(value);
}

std::uint64_t FastObject::number(std::string_view key) const {
  const auto found = find(key);
  std::uint64_t value = 0;
  if (!found || found->get(value) != simdjson::SUCCESS) wrong(key, "a whole number");
  return value;
}

std::uint64_t FastObject::number_or(std::string_view key, std::uint64_t fallback) const {
  return has(key) ? number(key) : fallback;
}

bool FastObject::flag_or(std::string_view key, bool fallback) const {
  const auto found = find(key);
  if (!found) return fallback;
  bool value = false;
  if (found->get(value) != simdjson::SUCCESS) wrong(key, "true or false");
  return value;
}

simdjson::dom::array FastObject::array(std::string_view key) const {
  const auto found = find(key);
  simdjson::dom::array items;
  if (!found || found->get(items) != simdjson::SUCCESS) wrong(key, "a list");
  return items;
}

std::vector<FastObject> FastObject::objects(std::string_view key) const {
  const simdjson::dom::array items = array(key);
  std::vector<FastObject> result;
  result.reserve(items.size());
  for (const simdjson::dom::element item : items) {
    simdjson::dom::object object;
    if (item.get(object) != simdjson::SUCCESS) wrong(key, "a list of objects");
    result.emplace_back(object, where_);
  }
  return result;
}

std::vector<std::pair<std::string, std::string>> FastObject::named_texts(std::string_view key) const {
  const auto found = find(key);
  simdjson::dom::object object;
  if (!found || found->get(object) != simdjson::SUCCESS) wrong(key, "an object");
  std::vector<std::pair<std::string, std::string>> result;
  for (const auto& [name, value] : object) {
    std::string_view text;
    if (value.get(text) != simdjson::SUCCESS) wrong(key, "an object of texts");
    result.emplace_back(name, text);
  }
  return result;
}

std::vector<std::string> FastObject::texts_or_none(std::string_view key) const {
  std::vector<std::string> result;
  each_text(key, [&](std::string_view text) { result.emplace_back(text); });
  return result;
}

}  // namespace hambrel
