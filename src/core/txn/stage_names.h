// How the directories of transactions are called in each of the staging homes.
#pragma once

#include <fmt/format.h>

#include <string>
#include <string_view>

#include "txn/transaction.h"

namespace hambrel::txn {

inline constexpr std::string_view kPrepared = "prepared-";  // and its number: a stage that waits to be activated

inline std::string stage_of(state::TxnId id) { return fmt::format("{}/{}", kStage, number(id)); }
inline std::string attic_of(state::TxnId id) { return fmt::format("{}/{}", kAttic, number(id)); }
/// Where programs run before a transaction: beside its own directory.
inline std::string preview_of(state::TxnId id) { return fmt::format("{}/preview-{}", kStage, number(id)); }
/// In the transaction's directory, what they made.
inline std::string made_in(state::TxnId id) { return fmt::format("made-{}", number(id)); }
/// And files that are written anew.
inline std::string lines_in(state::TxnId id) { return fmt::format("lines-{}", number(id)); }
inline std::string stage_of_prepared(std::int64_t id) { return fmt::format("{}/{}{}", kStage, kPrepared, id); }

}  // namespace hambrel::txn
