#include "model/actions_check.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/text.h"
#include "model/package.h"

namespace hambrel::actions {

namespace {

/// Where no package may put anything.
bool is_of_hambrel(std::string_view path) {
  for (const std::string_view own : {"var/lib/hambrel", "var/cache/hambrel", "etc/hambrel"})
    if (path == own || (path.starts_with(own) && path[own.size()] == '/')) return true;
  return false;
}

}  // namespace

bool is_path_glob(std::string_view glob) {
  if (!path_problem(glob).empty() || is_of_hambrel(glob)) return false;
  return glob.substr(0, glob.find('/')).find_first_of("*?") == std::string_view::npos;
}

bool is_absolute(std::string_view path) {
  return path.size() > 1 && path.front() == '/' && path_problem(path.substr(1)).empty();
}

bool is_account_name(std::string_view name) {
  constexpr std::size_t kMostBytes = 31;
  const auto fits = [](char c) { return (c >= 'a' && c <= 'z') || c == '_'; };
  return !name.empty() && name.size() <= kMostBytes && fits(name.front()) &&
         std::all_of(name.begin(), name.end(), [&](char c) { return fits(c) || (c >= '0' && c <= '9') || c == '-'; });
}

bool is_question_key(std::string_view key) {
  constexpr std::size_t kMostBytes = 40;
  const auto letter = [](char c) { return c >= 'a' && c <= 'z'; };
  return !key.empty() && key.size() <= kMostBytes && letter(key.front()) &&
         std::all_of(key.begin(), key.end(), [&](char c) { return letter(c) || (c >= '0' && c <= '9') || c == '-'; });
}

bool is_service_name(std::string_view name) {
  constexpr std::size_t kMostBytes = 64;
  const auto plain = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9'); };
  return !name.empty() && name.size() <= kMostBytes && plain(name.front()) &&
         std::all_of(name.begin(), name.end(),
                     [&](char c) { return plain(c) || std::string_view("._@-").find(c) != std::string_view::npos; });
}

bool is_field(std::string_view text) {
  constexpr std::size_t kMostBytes = 200;
  return text.size() <= kMostBytes && text.find(':') == std::string_view::npos && is_utf8(text) &&
         std::none_of(text.begin(), text.end(),
                      [](char c) { return static_cast<unsigned char>(c) < 0x20 || c == 0x7F; });
}

bool is_directory(std::string_view path) { return path_problem(path).empty() && !is_of_hambrel(path); }

std::optional<std::uint32_t> mode_from(std::string_view text) {
  std::uint32_t mode = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), mode, 8);
  const bool whole = problem == std::errc() && end == text.data() + text.size() && text.size() <= 4;
  return whole && mode <= 07777 ? std::optional(mode) : std::nullopt;
}

std::string mode_text(std::uint32_t mode) { return fmt::format("{:04o}", mode); }

}  // namespace hambrel::actions
