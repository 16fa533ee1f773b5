// What a transaction works on and with, and the steps at which others may look on.
#pragma once

#include <cstdint>
#include <functional>
#include <string_view>

#include "base/observer.h"
#include "os/file_system.h"
#include "os/preview.h"
#include "state/state.h"

namespace hambrel::txn {

/// In the order in which they are done; some of them only where there is something to do.
enum class EngineStep {
  Staged,     // everything new is below the transaction's directories
  Arrived,    // what was fetched meanwhile is whole
  Rehearsed,  // programs of packages ran on a preview
  Synced,     // all of that is on the disk
  Prepared,   // it waits to be activated; the end
  Journaled,  // from here on it is taken back if it is interrupted
  Moved,      // once a move
  Switched,   // the moves are on the disk
  Committed,  // from here on it is done
  Done,       // and tidied up; the end
};
/// staged, arrived, ...
std::string_view text_of(EngineStep step);

struct Environment {
  os::FileSystem& root;
  state::State& state;
  Observer& observer;
  bool set_owners = true;  // false where this process may not: files then belong to the caller
  std::function<std::int64_t()> now;
  /// Called after each step.
  std::function<void(EngineStep)> after_step = [](EngineStep) {};
  /// Asked before each step up to the journal: true ends the transaction there, with nothing changed. From the journal
  /// on nobody asks: the switch is finished.
  std::function<bool()> stop_asked = [] { return false; };
  /// Called before programs of packages run, and when everything is ready to be journaled. What it throws ends the
  /// transaction, with nothing changed.
  std::function<void()> before_rehearsal = [] {}, before_switch = [] {};
  /// Runs a program of a package on a preview.
  std::function<os::ProgramEnd(const os::Preview&, const os::PreviewProgram&, const os::PreviewLimits&,
                               const std::function<void(std::string_view)>& printed,
                               const std::function<bool()>& stop_asked)>
      run_program = os::run_on_preview;
  unsigned workers = 1;  // threads that unpack

  void go_on() const;  // Error{Declined} when it was asked to stop
};

}  // namespace hambrel::txn
