// Asking for what nobody should see.
#pragma once

#include <string>
#include <string_view>

#include "cli/terminal/screen.h"

namespace hambrel::cli {

/// Reads a line from the terminal, which does not show it. Throws Error{Declined} where there is no terminal, or
/// nothing more comes from it.
std::string ask_secret(const Screen& screen, std::string_view question);

/// The passphrase of a key file.
std::string passphrase_of(const Screen& screen, const std::string& file);

}  // namespace hambrel::cli
