// What programs wrote on a preview becomes moves of the transaction, as if it had been staged.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "rehearsal/runs.h"
#include "rehearsal/upper.h"
#include "txn/environment.h"
#include "txn/labels.h"
#include "txn/owners.h"
#include "txn/transaction.h"

namespace hambrel::txn {

/// What changed in the root itself while programs ran: they may be run again, on what is there now.
class RootMoved : public Error {
 public:
  using Error::Error;
};

class Capture {
 public:
  /// `directory`: of the transaction. `begun`: when the first program was started, by the clock of files.
  /// `moves`: of the transaction so far.
  Capture(const Environment& environment, const Planned& planned, std::string directory,
          std::pair<std::int64_t, std::int64_t> begun, std::vector<state::Move> moves);

  /// A file system of the preview, and where the transaction has its directory on it.
  void use(const std::string& home, const rehearsal::View& view) { homes_.emplace_back(home, &view); }
  /// May it become part of the system? Asked of all before the first is added. Throws Error{Refused} for a file of a
  /// package, RootMoved where the root has changed.
  void check(const rehearsal::Written& one, const rehearsal::Run& run) const;
  /// In the order of paths.
  void add(const rehearsal::Written& one, const rehearsal::Run& run);
  /// The moves, and what is recorded of them, go into the transaction.
  void finish(Transaction& ready);

 private:
  const std::string& home_of(std::string_view path) const;
  void require_nobodys(const rehearsal::Written& one, const rehearsal::Run& run) const;
  void require_unmoved(const std::string& path) const;
  void require_all_declared(const std::string& path, const rehearsal::Run& run) const;
  std::optional<std::string> staged_below(const std::string& path) const;
  void put(const rehearsal::Written& one);
  void give_attributes(const rehearsal::Written& one);
  void remove(const rehearsal::Written& one, const rehearsal::Run& run);
  std::string new_place();
  std::string make_place(const state::Move& move);
  std::string staged_place(const std::string& path);
  state::Move* move_at(const std::string& path);
  void remember(const rehearsal::Written& one, const rehearsal::Run& run);
  void forget(const std::string& path);

  const Environment& env_;
  const Planned& planned_;
  const std::string directory_;
  const std::pair<std::int64_t, std::int64_t> begun_;
  std::vector<std::pair<std::string, const rehearsal::View*>> homes_;
  std::vector<state::Move> moves_;  // those that were there, changed, and new ones
  std::map<std::string, std::size_t, std::less<>> by_path_;
  std::vector<std::string> whole_;  // new directories that are moved with all that is in them
  std::map<std::string, state::GeneratedChange> generated_;
  const Labels labels_;
  std::size_t places_ = 0;
};

}  // namespace hambrel::txn
