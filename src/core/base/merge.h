// Texts side by side: what differs, and what two changes of one text come to together. Done by libgit2.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace hambrel {

/// Can it be compared line by line? Not so for what holds a zero byte or is larger than 4 MiB.
bool is_text(std::string_view content);

struct Merged {
  bool clean = false;  // no line was changed by both
  std::string text;    // where not clean, with markers around what both changed
};

/// The changes from `base` to `mine` and from `base` to `theirs` together. All three are texts.
/// Throws Error{Internal} where the library fails or is not there.
Merged merge(std::string_view base, std::string_view mine, std::string_view theirs);

/// Does a text hold a line that merge() marks a conflict with?
bool has_markers(std::string_view text);

struct DiffLine {
  enum class Kind { Hunk, Same, Gone, Come, NoNewline };
  Kind kind = Kind::Same;
  std::string text;  // without the newline
};

/// The lines of a unified diff, three lines of context, without a head. Empty where the texts are alike.
std::vector<DiffLine> diff(std::string_view before, std::string_view after);

/// How much a diff changes, in lines.
struct Extent {
  std::size_t gone = 0, come = 0;
};
Extent extent_of(const std::vector<DiffLine>& lines);

}  // namespace hambrel
