#include "build/placeholders.h"

#include <fmt/format.h>

#include <optional>

#include "base/error.h"
#include "base/text.h"

namespace hambrel::build {

namespace {

constexpr std::string_view kOption = "option.";

/// What stands between the braces; nothing where that means nothing here.
std::optional<std::string> value_of(std::string_view inner, const Values& values) {
  if (inner == "prefix") return values.prefix;
  if (inner == "stage") return values.stage;
  if (inner == "arch") return values.arch;
  if (inner == "jobs") return std::to_string(values.jobs);
  if (!inner.starts_with(kOption)) return std::nullopt;
  inner.remove_prefix(kOption.size());
  const auto question = inner.find('?');
  const auto found = values.switches.find(std::string(inner.substr(0, question)));
  if (found == values.switches.end()) return std::nullopt;
  if (question == std::string_view::npos) return found->second ? "1" : "0";
  const std::string_view texts = inner.substr(question + 1);
  const auto colon = texts.find(':');
  if (found->second) return std::string(texts.substr(0, colon));
  return colon == std::string_view::npos ? "" : std::string(texts.substr(colon + 1));
}

struct PutIn {
  std::string text;
  bool only_options = true;  // nothing else stood there
  std::string unknown{};     // the first that means nothing
};

PutIn put_in_text(std::string_view text, const Values& values) {
  PutIn result;
  while (!text.empty()) {
    const auto open = text.find('{');
    const auto close = open == std::string_view::npos ? open : text.find('}', open);
    if (close == std::string_view::npos) {
      result.text += text;
      result.only_options = false;
      break;
    }
    if (open > 0) result.only_options = false;
    result.text += text.substr(0, open);
    const std::string_view inner = text.substr(open + 1, close - open - 1);
    if (const auto value = value_of(inner, values)) {
      result.text += *value;
      if (!inner.starts_with(kOption)) result.only_options = false;
    } else {
      if (result.unknown.empty()) result.unknown = fmt::format("{{{}}}", inner);
      result.only_options = false;
      result.text += text.substr(open, 1);
      text.remove_prefix(open + 1);
      continue;
    }
    text.remove_prefix(close + 1);
  }
  return result;
}

}  // namespace

std::string put_in(std::string_view script, const Values& values) { return put_in_text(script, values).text; }

std::vector<std::string> put_in(const std::vector<std::string>& words, const Values& values) {
  std::vector<std::string> result;
  for (const std::string& word : words) {
    PutIn one = put_in_text(word, values);
    if (one.text.empty() && one.only_options && !word.empty()) continue;
    result.push_back(std::move(one.text));
  }
  return result;
}

void check_placeholders(const Recipe& recipe) {
  Values values;
  for (const auto& [name, option] : recipe.options) values.switches.emplace(name, true);
  const auto complain = [](const std::string& unknown, const std::string& at) {
    throw Error(ErrorCode::Invalid, fmt::format("{} stands for nothing", printable(unknown)), at,
                "known are {prefix}, {stage}, {jobs}, {arch}, {name}, {version} and {option.NAME}");
  };
  for (const Step& step : recipe.steps) {
    for (const auto& words : step.commands)
      for (const std::string& word : words)
        if (const std::string unknown = put_in_text(word, values).unknown; !unknown.empty()) complain(unknown, step.at);
    std::string_view rest = step.script;
    for (std::size_t at = 0; (at = rest.find("{option.", at)) != std::string_view::npos; ++at) {
      const auto close = rest.find('}', at);
      const std::string_view inner = rest.substr(at + 1, close == std::string_view::npos ? close : close - at - 1);
      if (!value_of(inner, values)) complain(fmt::format("{{{}}}", inner), step.at);
    }
  }
  for (const auto& [key, value] : recipe.environment)
    if (const std::string unknown = put_in_text(value, values).unknown; !unknown.empty())
      complain(unknown, fmt::format("environment {}", key));
}

}  // namespace hambrel::build
