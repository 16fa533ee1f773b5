#include "model/relation.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <utility>

#include "base/error.h"
#include "base/text.h"

namespace hambrel {

namespace {

constexpr std::array<std::pair<std::string_view, Operator>, 6> kOperators{{{"!=", Operator::NotEqual},
                                                                           {"<=", Operator::LessEqual},
                                                                           {">=", Operator::GreaterEqual},
                                                                           {"=", Operator::Equal},
                                                                           {"<", Operator::Less},
                                                                           {">", Operator::Greater}}};
constexpr std::size_t kLongestName = 100;

}  // namespace

std::string_view text_of(Operator op) {
  for (const auto& [text, value] : kOperators)
    if (value == op) return text;
  return "";
}

bool is_package_name(std::string_view text) {
  const auto plain = [](char c) { return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9'); };
  if (text.empty() || text.size() > kLongestName || !plain(text[0])) return false;
  return std::all_of(text.begin(), text.end(),
                     [&](char c) { return plain(c) || c == '+' || c == '.' || c == '_' || c == '-'; });
}

bool is_installable_name(std::string_view text) {
  if (text.starts_with(kGroup)) text.remove_prefix(kGroup.size());
  return is_package_name(text);
}

namespace {

bool is_met(Operator op, int order) {
  switch (op) {
    case Operator::Equal: return order == 0;
    case Operator::NotEqual: return order != 0;
    case Operator::Less: return order < 0;
    case Operator::LessEqual: return order <= 0;
    case Operator::Greater: return order > 0;
    case Operator::GreaterEqual: return order >= 0;
    case Operator::Any: break;
  }
  return true;
}

}  // namespace

bool version_allowed(Operator op, std::string_view asked, std::string_view candidate) {
  if (op == Operator::Any) return true;
  return is_met(op, compare_versions(candidate, asked, asked.find('-') != std::string_view::npos));
}

bool Constraint::allows(const Version& candidate) const {
  return op == Operator::Any || is_met(op, Version::compare_keys(candidate, version, version.has_revision()));
}

std::string Constraint::text() const {
  return op == Operator::Any ? name : fmt::format("{} {} {}", name, text_of(op), version.text());
}

std::string Relation::text() const {
  std::vector<std::string> parts;
  for (const Constraint& one : alternatives) parts.push_back(one.text());
  return join(parts, " | ");
}

Constraint parse_constraint(std::string_view text, std::string_view where) {
  const std::string_view whole = trim(text);
  const std::size_t at = whole.find_first_of("!<>=");
  Constraint constraint;
  constraint.name = trim(whole.substr(0, at));
  if (!is_installable_name(constraint.name))
    throw Error(ErrorCode::Invalid, fmt::format("\"{}\" does not begin with a package name", printable(whole)),
                std::string(where), "write NAME or NAME OP VERSION; a name has lower-case letters, digits and + . _ -");
  if (at == std::string_view::npos) return constraint;
  std::string_view rest = whole.substr(at);
  for (const auto& [op_text, op] : kOperators) {
    if (!rest.starts_with(op_text)) continue;
    constraint.op = op;
    rest = trim(rest.substr(op_text.size()));
    break;
  }
  const auto version = Version::parse(rest);
  if (constraint.op == Operator::Any || !version)
    throw Error(ErrorCode::Invalid, fmt::format("\"{}\" has no valid version after the operator", printable(whole)),
                std::string(where), "write NAME OP VERSION with OP one of = != < <= > >=, for example libbuoy >= 2.3");
  constraint.version = *version;
  return constraint;
}

Constraint parse_provided(std::string_view text, std::string_view where) {
  Constraint one = parse_constraint(text, where);
  if (one.op != Operator::Any && one.op != Operator::Equal)
    throw Error(ErrorCode::Invalid, "\"provides\" must be NAME or NAME = VERSION", std::string(where));
  return one;
}

Relation parse_relation(std::string_view text, std::string_view where) {
  Relation relation;
  for (const std::string_view part : split(text, '|')) relation.alternatives.push_back(parse_constraint(part, where));
  return relation;
}

}  // namespace hambrel
