#include "base/toml_table.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

toml::table parse_toml(std::string_view text, const std::string& file) {
  try {
    return toml::parse(text);
  } catch (const toml::parse_error& problem) {
    throw Error(ErrorCode::Invalid, fmt::format("not valid TOML: {}", problem.description()),
                fmt::format("{}:{}", file, problem.source().begin.line), "fix this line and run the command again");
  }
}

std::optional<std::string> answer_in(const toml::node& node) {
  if (const auto text = node.value_exact<std::string>()) return *text;
  if (const auto number = node.value_exact<std::int64_t>()) return std::to_string(*number);
  if (const auto flag = node.value_exact<bool>()) return *flag ? "yes" : "no";
  return std::nullopt;
}

std::string TomlTable::at(const toml::node* node) const {
  const auto line = (node != nullptr ? node->source() : table_.source()).begin.line;
  return line > 0 ? fmt::format("{}:{}", file_, line) : file_;
}

void TomlTable::wrong(std::string_view key, std::string_view expected, const toml::node* node) const {
  const std::string whole = title_.empty() ? std::string(key) : fmt::format("{}.{}", title_, key);
  throw Error(ErrorCode::Invalid,
              node == nullptr ? fmt::format("{} is missing", whole) : fmt::format("{} must be {}", whole, expected),
              at(node), node == nullptr ? fmt::format("add {} = ... ({})", key, expected) : "");
}

const toml::node* TomlTable::find(std::string_view key) {
  asked_.emplace_back(key);
  return table_.get(key);
}

std::string TomlTable::text(std::string_view key, bool needed, std::string_view expected) {
  const toml::node* node = find(key);
  if (node == nullptr && !needed) return {};
  const auto value = node == nullptr ? std::nullopt : node->value_exact<std::string>();
  if (!value || (needed && value->empty())) wrong(key, expected, node);
  return *value;
}

std::vector<std::pair<std::string, std::string>> TomlTable::texts(std::string_view key) {
  const toml::node* node = find(key);
  std::vector<std::pair<std::string, std::string>> result;
  if (node == nullptr) return result;
  if (!node->is_array()) wrong(key, "a list of texts", node);
  for (const toml::node& item : *node->as_array()) {
    const auto value = item.value_exact<std::string>();
    if (!value) wrong(key, "a list of texts", &item);
    result.emplace_back(*value, at(&item));
  }
  return result;
}

std::int64_t TomlTable::number(std::string_view key, std::int64_t low, std::int64_t high, std::int64_t fallback) {
  const toml::node* node = find(key);
  if (node == nullptr) return fallback;
  const auto value = node->value_exact<std::int64_t>();
  if (!value || *value < low || *value > high) wrong(key, fmt::format("a whole number from {} to {}", low, high), node);
  return *value;
}

bool TomlTable::flag(std::string_view key, bool fallback) {
  const toml::node* node = find(key);
  if (node == nullptr) return fallback;
  const auto value = node->value_exact<bool>();
  if (!value) wrong(key, "true or false", node);
  return *value;
}

void TomlTable::done() const {
  for (const auto& [key, node] : table_) {
    const std::string name(key.str());
    if (std::find(asked_.begin(), asked_.end(), name) != asked_.end()) continue;
    std::string hint = did_you_mean(name, asked_);
    if (hint.empty()) hint = "known keys: " + join(asked_, ", ");
    throw Error(
        ErrorCode::Invalid,
        fmt::format("unknown key \"{}\" in {}", printable(name), title_.empty() ? "this file" : "[" + title_ + "]"),
        at(&node), hint);
  }
}

}  // namespace hambrel
