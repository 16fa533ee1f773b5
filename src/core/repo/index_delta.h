// What leads from one index of packages to the next: lines that were added or changed, and names of those that are
// gone.
//
//   {"delta": 1, "from": SHA-256, "lines": N, "to": SHA-256}     of the two index files; N: lines of the second
//   {"arch": …, "drop": true, "name": …, "version": …}  or a line of an index, in the order of lines of an index
//
// Invariant: an index and its deltas, one after the other, give the same lines in the same order as the last index.
#pragma once

#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "repo/index.h"

namespace hambrel::repo {

/// A line of an index with what it says.
struct WrittenLine {
  IndexLine line;
  std::string text;  // without its end
};

/// The lines of a plain index. Throws Error{Invalid}.
std::vector<WrittenLine> written_lines(std::string_view text, const std::string& where);
/// A delta, compressed. Both in the order of lines of an index; the digests are those of the index files.
std::string make_delta(const std::vector<WrittenLine>& before, const std::vector<WrittenLine>& after,
                       const Digest& from, const Digest& to);

/// Throws Error{Untrusted} unless the delta leads from one index to the other. Reads its beginning only.
void require_leads(std::string_view delta, const Digest& from, const std::optional<Digest>& to,
                   const std::string& where);
/// Where it leads to. Throws Error{Untrusted}.
Digest end_of_delta(std::string_view delta, const std::string& where);

/// The lines of an index after all of its deltas. Throws Error{Invalid}, and Error{Untrusted} where something does not
/// fit together.
void read_index_with(std::string_view stored, const std::vector<std::string>& deltas, const std::string& where,
                     const std::function<void(RawIndexLine&&)>& take);

}  // namespace hambrel::repo
