// Programs that take the terminal over for a while: an editor, a pager.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace hambrel::os {

/// Runs a program, found by PATH, and waits for its end. With `input` that is its standard input; what it does not read
/// is dropped. Ctrl-C is the program's meanwhile. Gives its exit code, 128 and the number of the
/// signal where it was killed by one; nothing where it could not be started.
std::optional<int> run_on_terminal(std::span<const std::string> words, std::optional<std::string_view> input = {});

/// Shows a long text in the administrator's pager (PAGER, or less), which ends by itself where the text fits after all.
/// False where there is none, or none is wanted: then nothing was shown.
bool show_in_pager(std::string_view text);

}  // namespace hambrel::os
