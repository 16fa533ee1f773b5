#include "cli/show/command_text.h"

#include "base/text.h"
#include "cli/command.h"

namespace hambrel::cli {

namespace {

constexpr std::string_view kProgram = "hambrel ";

/// Does a command begin with this, that is about a root?
bool is_command(std::string_view text) {
  if (!text.starts_with(kProgram)) return false;
  text.remove_prefix(kProgram.size());
  const std::string_view name = text.substr(0, text.find_first_not_of("abcdefghijklmnopqrstuvwxyz-"));
  for (const std::string_view other : {"help", "version", "demo", "completion", "pack", "publish", "serve"})
    if (name == other) return false;
  return find_command(name) != nullptr;
}

std::string inserted(std::string_view text, const std::string& root, bool quotes) {
  std::string result;
  bool quoted = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (quotes && text[i] == '\'') quoted = !quoted;
    const bool begins = i == 0 || std::string_view(" `(\n").find(text[i - 1]) != std::string_view::npos;
    if (!quoted && begins && is_command(text.substr(i))) {
      result += std::string(kProgram) + "--root " + shell_quoted(printable(root)) + " ";
      i += kProgram.size() - 1;
      continue;
    }
    result += text[i];
  }
  return result;
}

}  // namespace

std::string with_root(std::string_view text, const std::string& root) {
  if (root == "/" || text.find(kProgram) == std::string_view::npos) return std::string(text);
  return inserted(text, root, false);
}

std::string command_with_root(std::string_view command, const std::string& root) {
  return root == "/" ? std::string(command) : inserted(command, root, true);
}

}  // namespace hambrel::cli
