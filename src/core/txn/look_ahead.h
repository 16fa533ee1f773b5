// Whether the files of packages that may leave are as recorded, asked of the disk by a thread of its own while the
// tables of those that enter in their place are fetched and read. Which of the answers matter is known only then.
//
// Invariants: it only looks; an answer is what as_recorded() says at some moment between the construction and the first
// call of of(). It must not be kept across a question to the administrator: minutes may pass there.
#pragma once

#include <atomic>
#include <cstdint>
#include <map>
#include <memory>
#include <vector>

#include "base/parallel.h"
#include "os/file_system.h"
#include "state/state.h"

namespace hambrel::txn {

class LookAhead {
 public:
  /// At the files of packages by their rows; begins where they are so many that it is worth a thread.
  LookAhead(os::FileReader& root, const state::State& state, const std::vector<std::int64_t>& rows);
  /// What was not looked at by then is left.
  ~LookAhead();
  LookAhead(const LookAhead&) = delete;
  LookAhead& operator=(const LookAhead&) = delete;

  /// By number in the list of the package, 1 where the file is as recorded; null if it was not asked about. Helps with
  /// what is left, and waits. Throws what the looking threw.
  const std::vector<std::uint8_t>* of(std::int64_t row);

 private:
  struct Asked {
    std::shared_ptr<const FileList> list;
    std::vector<std::uint8_t> answers;
  };
  void look();

  os::FileReader& root_;
  std::map<std::int64_t, Asked> asked_;  // by row
  struct Portion {
    Asked* asked;
    std::size_t first, last;
  };
  std::vector<Portion> portions_;
  std::atomic<std::size_t> next_ = 0;  // of them
  Aside<void> other_;
};

}  // namespace hambrel::txn
