// Step 5 of a transaction: programs of packages run on a preview of the finished system, and what they wrote becomes
// part of what is staged. See docs/acting.md for what they may do.
//
// Everything lies in the transaction's own directories; a failure throws, and the caller drops these. Nothing of the
// root itself changes here.
#pragma once

#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "os/preview.h"
#include "rehearsal/runs.h"
#include "rehearsal/upper.h"
#include "txn/environment.h"
#include "txn/output_log.h"
#include "txn/transaction.h"

namespace hambrel::txn {

class RehearsalRun {
 public:
  /// `directory`: of the transaction, where what it brings lies; `scratch`: another one of its own. Both in each home.
  RehearsalRun(const Environment& environment, const Planned& planned, std::string directory, std::string scratch);

  /// Runs all that is due. What was run is in the transaction, also when this throws: Error{Refused} for a program that
  /// fails or writes what its package does not declare, Error{Declined} when it was asked to stop.
  void run(Transaction& ready);

 private:
  struct Mounted {
    Mounted(os::FileSystem& root, std::string of, const std::string& top, const std::string& place)
        : home(std::move(of)),
          view(root, top, place + "/view"),
          bare(root, top, place + "/bare"),
          upper(root, view, place + "/upper") {}
    std::string home;
    rehearsal::View view;  // the system as it will be,
    rehearsal::View bare;  // and as it was, with no more than what is mounted on
    rehearsal::Upper upper;
  };
  /// Who wrote a path last, and whether that is kept.
  struct Author {
    const rehearsal::Run* run = nullptr;
    bool kept = true;
  };
  struct Stamp {
    std::uint64_t inode = 0;
    std::int64_t seconds = 0, nanoseconds = 0;
    bool operator==(const Stamp&) const = default;
  };

  void make_layers(const std::vector<state::Move>& moves);
  Mounted& mounted_at(std::string_view path);
  os::Preview preview(bool as_it_was) const;
  void hide_secrets(std::string& output) const;
  void run_one(const rehearsal::Run& run, bool as_it_was, Transaction& ready);
  void judge(const rehearsal::Run& run, const os::ProgramEnd& end) const;
  void attribute(const rehearsal::Run& run);
  void require_allowed(const rehearsal::Run& run, const rehearsal::Written& one);
  void run_triggers(Transaction& ready);

  const Environment& env_;
  const Planned& planned_;
  const std::string directory_, scratch_;
  std::vector<std::unique_ptr<Mounted>> mounted_;
  std::set<std::string> others_;             // what else of the system is mounted, relative to the root
  std::vector<rehearsal::Written> written_;  // after the run that was last
  std::map<std::string, Author> authors_;    // by path
  std::map<std::string, Stamp> stamps_;
  std::vector<std::unique_ptr<rehearsal::Run>> later_;  // triggers that were due for what others wrote
  OutputLog log_;
};

}  // namespace hambrel::txn
