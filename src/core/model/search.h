// Finding packages by words: in names, summaries, provided names and descriptions, small and capital letters alike.
//
// Works on the words of the compiled layers (search_index.h). Texts themselves are read only for what no single word
// can settle: patterns, expressions, and what is made of several words or of none.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "model/universe.h"

namespace hambrel {

/// Where a word was found, best first.
enum class Found { Name, NameStart, NamePart, Summary, Provided, Description };

struct SearchHit {
  PackageId id{};             // what stands for the name: installed, else the newest on offer, else the newest
  Found found = Found::Name;  // the worst of the places where the words were found
};

/// Names in which every word is found; by place, then by name. A word with * or ? is a pattern for whole names; with
/// `regex` words are regular expressions (RE2). Throws Error{Usage} for a bad one.
std::vector<SearchHit> search(const Universe& universe, const std::vector<std::string>& words, bool regex);

/// The version that stands for a name in lists. The name has some that is visible.
PackageId representative(const Universe& universe, NameId name);

/// The one package that is called so, visible or not, where the repositories have one and nothing else is. For whoever
/// asks about thousands of names, each once: versions_of() remembers what it finds, which takes longer than this.
std::optional<PackageId> lone_version(const Universe& universe, NameId name);

}  // namespace hambrel
