// A package version as its manifest describes it. Plain values; the texts they come from are read in manifest.h.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "model/actions.h"
#include "model/relation.h"
#include "model/version.h"

namespace hambrel {

using ByteCount = std::uint64_t;

/// The architecture of what runs on every machine.
inline constexpr const char* kIndependent = "independent";

struct Package {
  std::string name;
  Version version;
  std::string arch;  // kIndependent, or a machine architecture as the kernel names it
  std::string summary, description, license, homepage, maintainer, category, source;

  std::vector<Relation> requires_, recommends, suggests;
  std::vector<Constraint> conflicts, provides, replaces;

  std::vector<std::string> config_globs;  // which of its files are configuration
  bool essential = false;                 // the system needs it: it does not go without being named for that
  std::uint32_t parallel = 1;             // so many versions may be installed side by side
  std::string restart;                    // "", "session" or "system": what a change of it asks for
  std::vector<std::string> features;      // abilities that whoever installs it must have
  std::vector<std::string> privileged;    // paths of its files that run with another's rights, ascending
  SharedActions actions;                  // what it asks for beyond its files
  ByteCount installed_size = 0;           // bytes of its regular files, hard links counted once
  std::uint64_t file_count = 0;           // entries that are not directories

  bool is_independent() const { return arch == kIndependent; }
  /// "lampdesk 5.4.1-1"
  std::string title() const { return name + " " + version.text(); }
};

/// Does a package that is called, or provides, a name meet a constraint on it?
/// A provided name without a version meets only constraints without one.
bool satisfies(const Package& package, const Constraint& constraint);
bool satisfies(const Package& package, const Relation& relation);

/// Configuration by the package's own globs; `path` without the leading '/'.
bool is_config(const Package& package, std::string_view path);

/// "x86_64", "independent": lower-case letters, digits and '_', at most 32.
bool is_architecture(std::string_view text);

/// Paths inside a root: relative, UTF-8, no empty, "." or ".." part, no control character, at most 4095 bytes, each
/// part at most 255. Returns what is wrong with the path, or nothing ("").
std::string path_problem(std::string_view path);

}  // namespace hambrel
