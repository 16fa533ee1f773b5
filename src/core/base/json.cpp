#include "base/json.h"

#include <fmt/format.h>

#include <set>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

namespace {

constexpr int kDeepest = 64;
constexpr std::size_t kMostKeys = 10'000;  // of one object

}  // namespace

namespace {

/// Looks for what nlohmann itself lets pass: equal keys in one object, of which it takes the last, and endless nesting.
class Inspector final : public nlohmann::json_sax<Json> {
 public:
  explicit Inspector(std::string_view where) : where_(where) {}
  bool null() override { return true; }
  bool boolean(bool) override { return true; }
  bool number_integer(number_integer_t) override { return true; }
  bool number_unsigned(number_unsigned_t) override { return true; }
  bool number_float(number_float_t, const string_t&) override { return true; }
  bool string(string_t&) override { return true; }
  bool binary(binary_t&) override { return true; }
  bool start_object(std::size_t) override {
    seen_.emplace_back();
    return deeper();
  }
  bool end_object() override {
    seen_.pop_back();
    --depth_;
    return true;
  }
  bool start_array(std::size_t) override { return deeper(); }
  bool end_array() override {
    --depth_;
    return true;
  }
  bool key(string_t& name) override {
    if (!seen_.back().insert(name).second)
      throw Error(ErrorCode::Invalid, fmt::format("the key \"{}\" appears twice in one object", printable(name)),
                  std::string(where_));
    if (seen_.back().size() > kMostKeys)
      throw Error(ErrorCode::Invalid, fmt::format("an object has more than {} keys", kMostKeys), std::string(where_));
    return true;
  }
  bool parse_error(std::size_t byte, const std::string&, const Json::exception&) override {
    throw Error(ErrorCode::Invalid, fmt::format("not valid JSON at byte {}", byte), std::string(where_));
  }

 private:
  bool deeper() {
    if (++depth_ <= kDeepest) return true;
    throw Error(ErrorCode::Invalid, fmt::format("JSON nested deeper than {} levels", kDeepest), std::string(where_));
  }

  std::string_view where_;
  std::vector<std::set<std::string>> seen_;  // one set of keys for each open object
  int depth_ = 0;
};

}  // namespace

Json parse_json(std::string_view text, std::string_view where) {
  Inspector inspector(where);
  Json::sax_parse(text, &inspector);
  return Json::parse(text);
}

Json parse_cbor(std::string_view bytes, std::string_view where) {
  Inspector inspector(where);
  const bool whole = Json::sax_parse(bytes.begin(), bytes.end(), &inspector, Json::input_format_t::cbor);
  if (!whole) throw Error(ErrorCode::Invalid, "not valid CBOR", std::string(where));
  return Json::from_cbor(bytes.begin(), bytes.end());
}

JsonObject::JsonObject(const Json& value, std::string where) : value_(value), where_(std::move(where)) {
  if (!value.is_object()) throw Error(ErrorCode::Invalid, "it must be a JSON object", where_);
}

void JsonObject::wrong(std::string_view key, std::string_view expected) const {
  throw Error(ErrorCode::Invalid,
              has(key) ? fmt::format("\"{}\" must be {}", key, expected)
                       : fmt::format("\"{}\" is missing (it must be {})", key, expected),
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

std::vector<JsonObject> JsonObject::objects(std::string_view key) const {
  const Json& list = member(key);
  if (!list.is_array()) wrong(key, "a list of objects");
  std::vector<JsonObject> result;
  for (const Json& item : list) {
    if (!item.is_object()) wrong(key, "a list of objects");
    result.emplace_back(item, where_);
  }
  return result;
}

std::string canonical(const Json& value) { return value.dump(-1, ' ', false, Json::error_handler_t::replace); }

}  // namespace hambrel
