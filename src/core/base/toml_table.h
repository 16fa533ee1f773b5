// TOML files (TOML 1.0) that people write, read strictly: checked types, positions in every complaint, nothing unknown.
#pragma once

#include <toml++/toml.h>

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace hambrel {

/// Throws Error{Invalid} with file:line.
toml::table parse_toml(std::string_view text, const std::string& file);

/// The answer to a question, as people write it: a text, a whole number, or true or false for yes and no.
std::optional<std::string> answer_in(const toml::node& node);

/// One table of a file; done() refuses the keys that nobody asked for.
class TomlTable {
 public:
  TomlTable(const toml::table& table, std::string file, std::string title)
      : table_(table), file_(std::move(file)), title_(std::move(title)) {}

  std::string at(const toml::node* node) const;  // "file:line"
  [[noreturn]] void wrong(std::string_view key, std::string_view expected, const toml::node* node) const;
  const toml::node* find(std::string_view key);
  /// A text; empty if it is missing and not needed.
  std::string text(std::string_view key, bool needed, std::string_view expected = "a text");
  /// The texts of a list, each with its position; empty if it is missing.
  std::vector<std::pair<std::string, std::string>> texts(std::string_view key);
  std::int64_t number(std::string_view key, std::int64_t low, std::int64_t high, std::int64_t fallback);
  bool flag(std::string_view key, bool fallback);
  /// A table in this one, under its own title.
  TomlTable below(const toml::table& table, std::string title) const { return {table, file_, std::move(title)}; }
  void done() const;

 private:
  const toml::table& table_;
  std::string file_, title_;
  std::vector<std::string> asked_;
};

}  // namespace hambrel
