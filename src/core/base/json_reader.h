// Reading many small JSON objects fast (simdjson), as strictly as base/json.h does: UTF-8, no duplicate keys, checked
// types.
//
// For indexes, which have a line for each package version, and tables of contents, which have an entry for each file;
// everything else is small and read through base/json.h.
#pragma once

#include <simdjson.h>

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/head_of.h"

namespace hambrel {

/// The members of objects of one document, one object after the other, and what it is called in messages.
struct JsonMembers {
  struct One {
    std::uint64_t head;
    std::string_view key;
    simdjson::dom::element value;
  };
  std::vector<One> all;
  std::string where;
  std::size_t line = 0;  // 0: it is no line of something
};

/// The members of one object, with the same face as JsonObject. Valid until the reader parses the next document.
class FastObject {
 public:
  FastObject(simdjson::dom::object object, JsonMembers& members);
  bool has(std::string_view key) const { return find(key).has_value(); }
  FastObject object(std::string_view key) const;
  std::string text(std::string_view key) const { return std::string(view(key)); }
  std::string text_or(std::string_view key, std::string_view fallback) const {
    return std::string(view_or(key, fallback));
  }
  /// The same without a copy, for as long as the object is valid.
  std::string_view view(std::string_view key) const;
  std::string_view view_or(std::string_view key, std::string_view fallback) const;
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
  /// "index.jsonl: line 7: lampdesk", made when it is asked for.
  std::string where() const;
  /// The same members, told of in messages by the name of what they describe, which has to outlive them.
  FastObject named(std::string_view name) const {
    FastObject other = *this;
    other.name_ = name;
    return other;
  }
  [[noreturn]] void wrong(std::string_view key, std::string_view expected) const;

 private:
  std::optional<simdjson::dom::element> find(std::string_view key) const;
  FastObject below(simdjson::dom::object object) const;

  JsonMembers* members_;
  std::size_t first_, count_;
  std::uint64_t there_ = 0;  // marks of the keys
  std::string_view name_;
};

class JsonReader {
 public:
  /// Parses a document that must be an object. Throws Error{Invalid} naming `where`, and the line, if there is one.
  FastObject parse(std::string_view text, std::string_view where, std::size_t line = 0);
  /// One of very many objects of a list of the document, valid until the next one is looked at.
  FastObject look_at(simdjson::dom::object one);

 private:
  simdjson::dom::parser parser_;
  std::string padded_;
  JsonMembers members_, passing_;
};

}  // namespace hambrel
