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

/// Changes as lines of a text: `install lampdesk tidewatch`, `remove foghorn`, `purge foghorn`, `upgrade saltdb`,
/// `upgrade` for everything, `follow lampdesk beta`, `follow lampdesk default`, `hold saltdb until 2030-01-31 because
/// it is old`, `release`, `want`, `unwant`; blank lines, and what follows a #. Throws Error{Usage} with `where` and the
/// line.
struct ChangeLines {
  Named named;
  bool purge = false, upgrade_all = false;
  std::vector<std::pair<std::string, std::string>> follows;  // name, and channel; empty: those of its repository
  struct Mark {
    plan::Action action = plan::Action::Hold;
    std::vector<std::string> specs;
    std::optional<std::int64_t> until{};
    std::optional<std::string> reason{};
  };
  std::vector<Mark> marks;
  bool empty() const;
};
ChangeLines parse_changes(std::string_view text, const std::string& where);
inline constexpr std::uint64_t kMostGivenBytes = 16 << 20;
/// Of the host, at most so many bytes. Throws Error{NotFound}.
std::string text_of_file(const std::string& file);
/// Adds all of them to a request.
void ask_for(Root& root, const ChangeLines& lines, ChangeRequest& request);

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
