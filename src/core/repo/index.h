// The index of a repository: a line of JSON for each package version, compressed with zstd.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "model/universe.h"

namespace hambrel {
class FastObject;
}

namespace hambrel::repo {

struct IndexLine {
  Package package;
  std::string channel;
  ByteCount size = 0;  // of the package file
  Digest digest;
  std::uint64_t table_offset = 0, table_size = 0;
  Digest table_digest;
};

/// Does this one come before the other in an index?
bool precedes(const IndexLine& a, const IndexLine& b);
/// One line, without its end.
std::string line_text(const IndexLine& line);
/// The plain text of an index, lines in the order of name, version (newest first), architecture.
std::string index_text(const std::vector<IndexLine>& lines);
/// Parses a plain index. Throws Error{Invalid} with `where` and the line number.
std::vector<IndexLine> parse_index(std::string_view text, const std::string& where);
/// A line whose package is told without its relations, and these as they are written.
struct RawIndexLine {
  IndexLine line;
  WrittenRelations relations;
};
/// The same from the compressed file, a line at a time, in this thread, while others parse those that follow. Whoever
/// takes a line may leave it, or an old one, in its place: its memory serves for another.
void read_index(std::string_view stored, const std::string& where, const std::function<void(RawIndexLine&&)>& take);
/// The same where there are lines of another kind: `other` is asked about each whether it was such a one, and took it.
void read_index(std::string_view stored, const std::string& where, const std::function<void(RawIndexLine&&)>& take,
                const std::function<bool(const FastObject&)>& other);

/// The directory of a package below packages/: its name; of a group "+group.NAME", as some file systems have no colons.
std::string package_directory(std::string_view name);
/// packages/DIRECTORY/VERSION.ARCH.hambrel
std::string package_path(const Package& package);
/// The same, percent-encoded for a URL.
std::string package_url_path(const Package& package);

}  // namespace hambrel::repo
