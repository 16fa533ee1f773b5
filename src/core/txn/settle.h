// Settling configuration files without changing packages.
#pragma once

#include <vector>

#include "txn/transaction.h"

namespace hambrel::txn {

/// By choice: Keep, and what waits is gone; Take, and the package's version replaces what stands there, or comes where
/// nothing does; Merge and Edit, and their content does. A plan of kind "settle", which undo takes back.
/// Throws Error{Refused} by name where there is nothing to be settled or taken, as for a leftover.
[[nodiscard]] Planned plan_settle(os::FileReader& root, const state::State& state, const std::vector<ConfigFile>& files,
                                  const Choices& choices, const FileOf& file_of);

/// The texts of one file, as far as they are there and are texts.
struct ConfigTexts {
  std::optional<std::string> base, mine, theirs;
};
/// Of a file that stands: `theirs` is what its package brought, or what waits.
ConfigTexts texts_of(os::FileReader& root, const ConfigFile& file);
/// A text of at most 4 MiB; nothing where the path is empty, or what lies there is something else.
std::optional<std::string> read_text(os::FileReader& root, const std::string& path);

}  // namespace hambrel::txn
