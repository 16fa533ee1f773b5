// From what is named on a line to a request: what is to come, to go, to be upgraded, marked or shelved.
#pragma once

#include <string>
#include <vector>

#include "operations/change.h"
#include "operations/configuration.h"

namespace hambrel::operations {

/// Specs, by what is to become of what they name.
struct Named {
  std::vector<std::string> install{}, remove{}, upgrade{}, except{}, release{};
};
/// Adds them to a request. Reads package files that are named; sees what was kept where a version is named that nobody
/// offers. Throws Error{Refused} for what nothing answers to.
void ask_for(Root& root, const Named& named, ChangeRequest& request);

/// "group:signal-room" as the group with its optional members, if it has some; another spec as it is.
std::string with_optional_members(Root& root, const std::string& spec);

/// To remove what is named. With request.purge, what is gone already is meant with what it left behind.
struct Removal {
  ChangeRequest request;
  std::vector<ConfigFile> left;  // where nothing else is named: what is purged, without a change of packages
};
Removal ask_to_remove(Root& root, const std::vector<std::string>& specs, ChangeRequest request);

/// Hold, Release, Want or Unwant.
MarkRequest ask_to_mark(Root& root, plan::Action action, const std::vector<std::string>& specs);

}  // namespace hambrel::operations
