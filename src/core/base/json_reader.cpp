#include "base/json_reader.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/simdjson_library.h"
#include "base/text.h"

namespace hambrel {

namespace {

constexpr std::size_t kDeepestRead = 64;
constexpr std::size_t kMostKeysRead = 10'000;  // of one object

std::string place_of(const JsonMembers& members) {
  return members.line == 0 ? members.where : fmt::format("{}: line {}", members.where, members.line);
}

void refuse_twins(simdjson::dom::object object, const JsonMembers& members);

void refuse_twins_below(simdjson::dom::element value, const JsonMembers& members) {  // at most kDeepestRead levels
  simdjson::dom::object object;
  simdjson::dom::array array;
  if (value.get(object) == simdjson::SUCCESS) return refuse_twins(object, members);
  if (value.get(array) == simdjson::SUCCESS)
    for (const simdjson::dom::element one : array) refuse_twins_below(one, members);
}

void refuse_unordered_twins(simdjson::dom::object object, const JsonMembers& members) {
  std::vector<std::string_view> keys;
  for (auto one = object.begin(); one != object.end(); ++one) keys.push_back(one.key());
  std::sort(keys.begin(), keys.end());
  if (const auto twin = std::adjacent_find(keys.begin(), keys.end()); twin != keys.end())
    throw Error(ErrorCode::Invalid, fmt::format("the key \"{}\" appears twice in one object", printable(*twin)),
                place_of(members));
}

void refuse_twins(simdjson::dom::object object, const JsonMembers& members) {
  bool ascending = true;  // as canonical JSON has them: then none stands twice
  std::size_t count = 0;
  std::string_view last;
  std::uint64_t last_head = 0;
  for (auto one = object.begin(); one != object.end(); ++one) {
    const std::string_view key = one.key();
    const std::uint64_t head = head_of(key);
    ascending = ascending && (count == 0 || last_head < head || (last_head == head && last < key));
    last = key;
    last_head = head;
    if (++count > kMostKeysRead)
      throw Error(ErrorCode::Invalid, fmt::format("an object has more than {} keys", kMostKeysRead), place_of(members));
    refuse_twins_below(one.value(), members);
  }
  if (!ascending) refuse_unordered_twins(object, members);
}

}  // namespace

FastObject JsonReader::parse(std::string_view text, std::string_view where, std::size_t line) {
  members_.all.clear();
  passing_.all.clear();
  if (members_.where != where) members_.where = where;
  members_.line = line;
  padded_.assign(text);
  padded_.resize(text.size() + simdjson::SIMDJSON_PADDING);
  if (parser_.capacity() < text.size() || parser_.max_depth() != kDeepestRead) {
    load_simdjson();
    if (parser_.allocate(std::max<std::size_t>(text.size(), 4096), kDeepestRead) != simdjson::SUCCESS)
      throw Error(ErrorCode::Internal, "no memory for JSON", place_of(members_));
  }
  simdjson::dom::element document;
  if (const auto error = parser_.parse(padded_.data(), text.size(), false).get(document); error != simdjson::SUCCESS)
    throw Error(ErrorCode::Invalid, fmt::format("not valid JSON: {}", simdjson_message(error)), place_of(members_));
  simdjson::dom::object object;
  if (document.get(object) != simdjson::SUCCESS)
    throw Error(ErrorCode::Invalid, "it must be a JSON object", place_of(members_));
  refuse_twins(object, members_);
  return {object, members_};
}

FastObject JsonReader::look_at(simdjson::dom::object one) {
  passing_.all.clear();
  passing_.where = members_.where;
  passing_.line = members_.line;
  return {one, passing_};
}

namespace {

/// One of 64 bits: a key whose bit no member has is not there.
std::uint64_t mark_of(std::uint64_t head) { return 1ULL << ((head * 0x9e3779b97f4a7c15U) >> 58U); }

}  // namespace

FastObject::FastObject(simdjson::dom::object object, JsonMembers& members)
    : members_(&members), first_(members.all.size()) {
  for (const auto& [key, value] : object) {
    const std::uint64_t head = head_of(key);
    members.all.push_back({head, key, value});
    there_ |= mark_of(head);
  }
  count_ = members.all.size() - first_;
}

FastObject FastObject::below(simdjson::dom::object object) const {
  FastObject one(object, *members_);
  one.name_ = name_;
  return one;
}

std::string FastObject::where() const {
  const std::string place = place_of(*members_);
  return name_.empty() ? place : fmt::format("{}: {}", place, printable(name_));
}

std::optional<simdjson::dom::element> FastObject::find(std::string_view key) const {
  const std::uint64_t head = head_of(key);
  if ((there_ & mark_of(head)) == 0) return std::nullopt;
  for (std::size_t i = first_; i < first_ + count_; ++i)
    if (const JsonMembers::One& one = members_->all[i]; one.head == head && one.key == key) return one.value;
  return std::nullopt;
}

void FastObject::wrong(std::string_view key, std::string_view expected) const {
  throw Error(ErrorCode::Invalid,
              has(key) ? fmt::format("\"{}\" must be {}", key, expected)
                       : fmt::format("\"{}\" is missing (it must be {})", key, expected),
              where());
}

FastObject FastObject::object(std::string_view key) const {
  const auto found = find(key);
  simdjson::dom::object object;
  if (!found || found->get(object) != simdjson::SUCCESS) wrong(key, "an object");
  return below(object);
}

std::string_view FastObject::view(std::string_view key) const {
  const auto found = find(key);
  std::string_view value;
  if (!found || found->get(value) != simdjson::SUCCESS) wrong(key, "a text");
  return value;
}

std::string_view FastObject::view_or(std::string_view key, std::string_view fallback) const {
  const auto found = find(key);
  if (!found) return fallback;
  std::string_view value;
  if (found->get(value) != simdjson::SUCCESS) wrong(key, "a text");
  return value;
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
    result.push_back(below(object));
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
