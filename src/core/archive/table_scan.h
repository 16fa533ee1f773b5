// A table of contents, read as encode_table() writes them: each key in its place, nothing escaped. Five
// times as fast as reading any JSON, and a package of 20,000 files has 7 MB of them.
//
// Invariant: what is read here is what the rules of JSON make of the text. Where a byte is not as encode_table() would
// have written it, nothing is read, and those rules decide; where it is one entry that has more to it (attributes,
// escaped characters), they decide about that one.
#pragma once

#include <functional>
#include <optional>
#include <string_view>

#include "archive/table.h"

namespace hambrel::archive {

/// `text` is a whole table, unpacked. `read_other` reads an object that is an entry by itself, or nothing.
std::optional<Table> scan_table(std::string_view text,
                                const std::function<std::optional<Entry>(std::string_view)>& read_other);

}  // namespace hambrel::archive
