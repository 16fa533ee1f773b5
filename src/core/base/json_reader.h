// Reading many small JSON objects fast (simdjson), as strictly as base/json.h does: UTF-8, no duplicate keys, checked
// types.
//
// For indexes, which have a line for each package version, and tables of contents, which have an entry for each file;
// everything else is small and read through base/json.h.
#pragma once

#include <simdjson.h>

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace hambrel {

/// The members of one object, with the same face as JsonObject. Valid until the reader parses the next document.
class FastObject {
 public:
  FastObject(simdjson::dom::object object, std::string where);
  bool has(std::string_view key) const { return find(key).has_value(); }
  FastObject object(std::string_view key) const;
  std::string text(std::string_view key) const;
  std::string text_or(std::string_view key, std::string_view fallback) const;
  std::uint64_t number(std::string_view key) const;
  std::uint64_t number_or(std::string_view key, std::uint64_t fallback) const;
  bool flag_or(std::string_view key, bool fallback) const;
  std::vector<std::string> texts_or_none(std::string_view key) const;
  /// Calls f(std::string_view) for each text of such a list.
  template <typename Function>
  void each_text(std::string_view key, Function f) const {
    const auto found = find(key);
    if (!found) return;
    simdjson::dom::array items;
    if (found->get(items) != simdjson::SUCCESS) wrong(key, "a list of texts");
    for (const simdjson::dom::element item : items) {
      std::string_view value;
      if (item.get(value) != simdjson::SUCCESS) wrong(key, "a list of texts");
      f(value);
    }
  }
  /// A list as it stands, for those who read very long ones.
  simdjson::dom::array array(std::string_view key) const;
  /// The members of a list of objects, and the names and texts of an object of texts.
  std::vector<FastObject> objects(std::string_view key) const;
  std::vector<std::pair<std::string, std::string>> named_texts(std::string_view key) const;
  const std::string& where() const { return where_; }
  /// The same members, told of under another name in messages.
  FastObject renamed(std::string where) const {
    FastObject other = *this;
    other.where_ = std::move(where);
    return other;
  }
  [[noreturn]] void wrong(std::string_view key, std::string_view expected) const;

 private:
  std::optional<simdjson::dom::element> find(std::string_view key) const;
  using Members = std::vector<std::pair<std::string_view, simdjson::dom::element>>;
  std::shared_ptr<const Members> members_;
  std::string where_;
};

class JsonReader {
 public:
  /// Parses a document that must be an object. Throws Error{Invalid} naming `where`.
  FastObject parse(std::string_view text, const std::string& where);

 private:
  simdjson::dom::parser parser_;
  std::string padded_;
};

}  // namespace hambrel
