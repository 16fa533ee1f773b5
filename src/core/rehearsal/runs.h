// Which programs of packages a change asks for: hooks of what changes, triggers that watch a path that does.
//
// Pure: nothing is run or looked at here. Hooks stand in the order of their packages' steps, so that each comes after
// what its package requires; triggers by package.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/actions.h"
#include "plan/plan.h"

namespace hambrel::rehearsal {

/// A package with what it asks for, before and after a change; no version: it is not there.
struct Party {
  std::string name;
  std::string before, after;  // versions
  SharedActions was{}, is{};
  bool downgrades = false;
  std::string origin{};     // where it comes from, or came from: "repository/channel"
  bool only_files = false;  // it goes to the shelf or comes from there: no hook runs
  HookMoment moment() const;
};

/// Paths that come, go or change. Texts are the caller's.
class ChangedPaths {
 public:
  void add(std::string_view path) { paths_.push_back(path); }
  /// After the last add().
  void sort();
  bool empty() const { return paths_.empty(); }
  /// The first of those that one of the globs matches, and whether there is another one.
  struct Match {
    std::string_view path;
    bool several = false;
  };
  std::optional<Match> match(const std::vector<std::string>& globs) const;

 private:
  std::vector<std::string_view> paths_;
};

struct Run {
  plan::Run shown;
  Program program;
  std::vector<std::string> watches;      // of a trigger
  std::vector<std::string> environment;  // NAME=VALUE
  /// Who made what it makes, for the state.
  std::string program_text() const { return program.text(); }
  bool is_trigger() const { return shown.kind == plan::Run::Kind::Trigger; }
  bool same_as(const Run& other) const {
    return shown.package == other.shown.package && program == other.program && watches == other.watches;
  }
};

struct Runs {
  std::vector<Run> before;    // on a preview of the system as it was
  std::vector<Run> hooks;     // on one of it as it will be
  std::vector<Run> triggers;  // after them
  std::vector<Run> watching;  // all triggers that there are then: those may be due for what others write
  bool empty() const { return before.empty() && hooks.empty() && triggers.empty(); }
  /// As a plan shows them, in their order.
  std::vector<plan::Run> shown() const;
};

struct Staying {
  std::string name, version, origin;
  SharedActions actions;
};

/// `with_hooks` false: where files of an attic come back, with what hooks had made of them.
[[nodiscard]] Runs plan_runs(const std::vector<Party>& parties, const std::vector<Staying>& staying,
                             const ChangedPaths& changed, bool with_hooks = true);
/// All that an installed package could run: for what is made up for later.
[[nodiscard]] std::vector<Run> runs_of(const std::string& package, const std::string& version, const Actions& actions);

/// May a program write this? What it declares; X/** means X, too. `new_directory`: also one on the way to that.
bool is_declared(const std::vector<std::string>& writes, std::string_view path, bool new_directory);

}  // namespace hambrel::rehearsal
