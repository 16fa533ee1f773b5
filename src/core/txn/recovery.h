// Recovery: a switch that was cut off, or failed, is rolled back from its journal (engine.h, I3 and I4).
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "base/error.h"
#include "txn/environment.h"

namespace hambrel::txn {

class Recovery {
 public:
  explicit Recovery(const Environment& environment) : env_(environment) {}

  struct Recovered {
    state::TxnId id{};
    std::string kind, command;
    std::int64_t started = 0;
    std::size_t moves_taken_back = 0, moves = 0;
  };
  /// Takes back what a standing journal names. Nothing if there was none. Also finishes the directories of a committed
  /// transaction and removes stages that no journal names.
  std::optional<Recovered> recover();

  /// After a failure in the middle of transaction `id`: back to how it was, by the journal. If even that fails:
  /// Error{Unrecovered}, which tells of both problems.
  void take_back_after(const Error& problem, state::TxnId id);

 private:
  bool take_back(const state::Move& move, const std::string& directory);
  Recovered take_back(const state::Journal& journal, const std::string& result, const std::string& problem);

  const Environment& env_;
};

}  // namespace hambrel::txn
