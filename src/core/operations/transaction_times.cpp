#include "operations/transaction_times.h"

#include <fmt/format.h>

namespace hambrel::operations {

using txn::EngineStep;

void TransactionTimes::after(EngineStep step) {
  at_[step] = Clock::now();
  if (step == EngineStep::Moved) ++moves_;
  if (step == EngineStep::Done && at_.contains(EngineStep::Synced)) tell();  // giving up attics has no switch
}

void TransactionTimes::tell() const {
  const auto at = [&](EngineStep step, Clock::time_point otherwise) {
    const auto found = at_.find(step);
    return found == at_.end() ? otherwise : found->second;
  };
  const auto between = [](Clock::time_point from, Clock::time_point to) {
    return std::chrono::duration<double, std::milli>(to - from).count();
  };
  const auto staged = at(EngineStep::Staged, start_), arrived = at(EngineStep::Arrived, staged);
  const auto synced = at_.at(EngineStep::Synced), journaled = at_.at(EngineStep::Journaled);
  const auto moved = at(EngineStep::Moved, journaled), switched = at_.at(EngineStep::Switched);
  std::string text;
  if (staged != start_) text += fmt::format("planned and staged in {:.1f} ms, ", between(start_, staged));
  if (arrived != staged) text += fmt::format("the rest fetched in {:.1f} ms, ", between(staged, arrived));
  text += fmt::format(
      "{}on the disk in {:.1f} ms, journal in {:.1f} ms, {} moves in {:.1f} ms, those on the disk in {:.1f} ms, "
      "recorded in {:.1f} ms",
      text.empty() ? "planned and " : "", between(arrived, synced), between(synced, journaled), moves_,
      between(journaled, moved), between(moved, switched), between(switched, at_.at(EngineStep::Committed)));
  observer_.note(text);
}

}  // namespace hambrel::operations
