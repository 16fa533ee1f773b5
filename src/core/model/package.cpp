#include "model/package.h"

#include <algorithm>

#include "base/text.h"

namespace hambrel {

bool satisfies(const Package& package, const Constraint& constraint) {
  if (package.name == constraint.name && constraint.allows(package.version)) return true;
  return std::any_of(package.provides.begin(), package.provides.end(), [&](const Constraint& provided) {
    if (provided.name != constraint.name) return false;
    return constraint.op == Operator::Any || (provided.op == Operator::Equal && constraint.allows(provided.version));
  });
}

bool satisfies(const Package& package, const Relation& relation) {
  return std::any_of(relation.alternatives.begin(), relation.alternatives.end(),
                     [&](const Constraint& one) { return satisfies(package, one); });
}

bool is_config(const Package& package, std::string_view path) {
  return std::any_of(package.config_globs.begin(), package.config_globs.end(),
                     [&](const std::string& glob) { return path_glob_match(glob, path); });
}

bool is_architecture(std::string_view text) {
  return !text.empty() && text.size() <= 32 && std::all_of(text.begin(), text.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '_';
  });
}

std::string path_problem(std::string_view path) {
  if (path.empty()) return "an empty path";
  if (path.front() == '/') return "an absolute path";
  if (path.size() > 4095) return "a path longer than 4095 bytes";
  const bool plain = is_plain(path);
  if (!plain && !is_utf8(path)) return "a path that is not UTF-8";
  for (std::size_t at = 0; at <= path.size();) {
    const std::string_view part = path.substr(at, path.find('/', at) - at);
    at += part.size() + 1;
    if (part.empty()) return "a path with an empty part";
    if (part == "." || part == "..") return "a path with '.' or '..'";
    if (part.size() > 255) return "a name longer than 255 bytes";
  }
  for (const char c : plain ? std::string_view() : path)
    if (static_cast<unsigned char>(c) < 0x20 || c == 0x7F) return "a path with a control character";
  return {};
}

}  // namespace hambrel
