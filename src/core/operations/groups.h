// Groups of packages, as repositories name them.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"

namespace hambrel::operations {

struct GroupMember {
  std::string name;  // of a package or a group
  bool optional = false;
  bool installed = false;
  bool available = false;
  ByteCount size = 0;  // of its installed files, bytes: of the installed version, else of the newest available one
  std::string summary;
};

struct Group {
  std::string name;  // without "group:"
  std::string summary, description, version, origin;
  bool installed = false;      // as a group
  bool with_optional = false;  // and with its optional members
  std::vector<GroupMember> members;
  std::size_t count_installed() const;
  std::size_t count(bool optional) const;
};

/// All that are installed or on offer, by name.
std::vector<Group> groups(Root& root);
/// Throws Error{Refused} where there is no such group.
Group group_named(Root& root, const std::string& name);

}  // namespace hambrel::operations
