// The two written forms of a Package: package.toml, which people write, and the manifest, canonical JSON, which
// package files, indexes and the state carry. docs/format.md describes both.
//
// Reading is strict about what it knows. package.toml may hold nothing unknown (a typo must not pass silently);
// a manifest may hold unknown members, so that newer packages stay readable: what an installer must understand to
// install a package stands in its "features", and a package with an unknown feature can be looked at, not installed.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <nlohmann/json_fwd.hpp>

#include "model/package.h"

namespace hambrel {

class FastObject;
class TomlTable;
class WrittenRelations;

/// What package.toml tells besides the manifest: owners and modes that the source tree can't hold.
struct FileAttributes {
  std::string glob;
  std::string user, group;  // empty: leave
  int mode = -1;            // permission bits, -1: leave
};

struct PackageSource {
  Package package;
  std::vector<FileAttributes> attributes;
};

/// Parses package.toml. Every Error{Invalid} names file:line and what was expected.
PackageSource parse_package_toml(std::string_view text, const std::string& file);
/// The same of a table that says all of it but what `usual` says, for each key that is left out.
PackageSource read_package_source(TomlTable& table, const std::string& file, const Package& usual);

Package parse_manifest(std::string_view text, const std::string& where);
Package package_from_json(const nlohmann::json& value, const std::string& where);
Package package_from_json(const FastObject& object);
/// The same into a package that may be an old one, whose memory is used again; the relations come as they are written
/// and are not in it.
void read_without_relations(const FastObject& object, Package& package, WrittenRelations& relations);
nlohmann::json package_to_json(const Package& package);
std::string manifest_text(const Package& package);

/// The first feature of the package that this version does not know, or empty.
std::string unknown_feature(const Package& package);

}  // namespace hambrel
