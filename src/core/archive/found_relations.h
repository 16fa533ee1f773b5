// What a machine can see of the relations of a package: the shared libraries that its programs need and those that it
// brings (the dynamic section of ELF, System V ABI, chapter 5), the interpreters of its scripts, and its pkg-config
// files.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "model/relation.h"
#include "os/file_system.h"

namespace hambrel::archive {

struct FoundNeed {
  enum class Kind { Library, Interpreter, PkgConfig, Link };
  Kind kind = Kind::Library;
  // "libtide.so.1", "/bin/sh", "tide >= 1.8" (a module of pkg-config), "/usr/lib/libtide.so.1" (what a link names)
  std::string text;
  std::string by;  // the path that needs it
  /// As a relation to what packages provide; nothing for a path, and for what can't be said as one.
  std::optional<Constraint> constraint() const;
  bool is_path() const { return kind == Kind::Interpreter || kind == Kind::Link; }
};

struct FoundRelations {
  std::vector<FoundNeed> needs;      // by kind and text, each once
  std::vector<Constraint> provides;  // by name; libraries without a version, modules with theirs
};

/// Of the files below `top`. What the tree itself brings is not among the needs. Files that are damaged are passed
/// over.
FoundRelations find_relations(os::FileReader& files, std::string_view top);

/// Names under which packages provide a shared library and a pkg-config module: "libtide.so.1", "tide.pc". Lower case;
/// what names of packages can't hold is '_'.
std::string library_name(std::string_view soname);
std::string module_name(std::string_view module);

}  // namespace hambrel::archive
