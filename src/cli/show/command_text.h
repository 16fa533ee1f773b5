// Commands inside shown texts: whoever copies one must act on the system it was shown for.
#pragma once

#include <string>
#include <string_view>

namespace hambrel::cli {

/// A text with `--root` put into each command of this program that it shows: "hambrel" and the name of a command, at
/// the beginning, or after a blank, a backtick or a bracket. A command that names its root already stays as it is.
/// `root`: as it was given; "/" changes nothing.
std::string with_root(std::string_view text, const std::string& root);

/// The same for a command line, in which words in quotes are words, whatever they say.
std::string command_with_root(std::string_view command, const std::string& root);

}  // namespace hambrel::cli
