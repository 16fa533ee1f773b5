#include "solve/cdcl.h"

#include <algorithm>
#include <utility>

#include "base/assert.h"

namespace hambrel::solve {

namespace {

constexpr double kDecay = 0.95;
constexpr std::uint64_t kRestartUnit = 100;  // conflicts

/// The Luby sequence 1 1 2 1 1 2 4 ..., i from 0.
std::uint64_t luby(std::uint64_t i) {
  std::uint64_t size = 1, power = 1;
  while (size < i + 1) {
    size = 2 * size + 1;
    power *= 2;
  }
  while (size - 1 != i) {
    size = (size - 1) / 2;
    power /= 2;
    i %= size;
  }
  return power;
}

}  // namespace

Var Cdcl::new_variable(bool phase) {
  const Var var = static_cast<Var>(level_.size());
  level_.push_back(0);
  reason_.push_back(kNoReason);
  phase_.push_back(phase);
  seen_.push_back(0);
  model_.push_back(0);
  activity_.push_back(0);
  values_.insert(values_.end(), 2, kUnknown);
  lists_.resize(lists_.size() + 2);
  heap_at_.push_back(kNotInHeap);
  place_.push_back(static_cast<std::uint32_t>(order_.size()));
  order_.push_back(var);
  return var;
}

std::uint32_t Cdcl::store(std::span<const Lit> clause) {
  HAMBREL_ASSERT(clause.size() > 2 && clauses_.size() + clause.size() + 1 < kBinary, "places of clauses take 31 bits");
  const auto at = static_cast<std::uint32_t>(clauses_.size());
  clauses_.push_back({static_cast<std::uint32_t>(clause.size())});
  clauses_.insert(clauses_.end(), clause.begin(), clause.end());
  if (clause.size() > kLong) clauses_.push_back({2});
  return at;
}

void Cdcl::watch(Lit lit, Watch one) {
  WatchList& list = lists_[lit.code];
  if (list.size == list.room) {
    const std::uint32_t room = list.room == 0 ? 4 : 2 * list.room;
    HAMBREL_ASSERT(watches_.size() + room <= UINT32_MAX, "places of watches take 32 bits");
    const auto start = static_cast<std::uint32_t>(watches_.size());
    watches_.resize(watches_.size() + room);
    std::copy_n(watches_.begin() + list.start, list.size, watches_.begin() + start);
    list.start = start;
    list.room = room;
  }
  watches_[list.start + list.size++] = one;
}

void Cdcl::add(std::span<const Lit> clause) {
  backtrack(0);
  std::vector<Lit>& kept = scratch_;
  kept.clear();
  for (const Lit lit : clause) {
    if (value(lit) == kTrue) return;
    if (value(lit) == kUnknown) kept.push_back(lit);
  }
  if (kept.size() > 1) {
    std::sort(kept.begin(), kept.end(), [](Lit a, Lit b) { return a.code < b.code; });
    kept.erase(std::unique(kept.begin(), kept.end()), kept.end());
    for (std::size_t i = 0; i + 1 < kept.size(); ++i)
      if (kept[i + 1] == ~kept[i]) return;  // always true
  }
  if (kept.empty()) {
    broken_ = true;
  } else if (kept.size() == 1) {
    enqueue(kept[0], kNoReason);  // its consequences are drawn when the search begins
  } else if (kept.size() == 2) {
    watch(~kept[0], {kBinary, kept[1]});
    watch(~kept[1], {kBinary, kept[0]});
  } else {
    const std::uint32_t at = store(kept);
    watch(~kept[0], {at, kept[1]});
    watch(~kept[1], {at, kept[0]});
  }
}

void Cdcl::enqueue(Lit lit, std::uint32_t reason) {
  HAMBREL_ASSERT(value(lit) == kUnknown, "a literal gets its value once");
  values_[lit.code] = kTrue;
  values_[(~lit).code] = kFalse;
  level_[lit.var()] = level();
  reason_[lit.var()] = reason;
  trail_.push_back(lit);
}

/// A place, from 2 on, of a literal of the clause that is not false; `count` where there is none. Begun at the start
/// each time, making the literals of a long clause false one after the other would take the square of its length; and
/// where each of hundreds provides what many require, there are many of those.
std::uint32_t Cdcl::find_watchable(Lit* lits, std::uint32_t count) {
  std::uint32_t at = 2;
  if (count <= kLong) {
    while (at < count && value(lits[at]) == kFalse) ++at;
    steps_ += at / 8;
    return at;
  }
  const std::uint32_t from = lits[count].code;
  HAMBREL_ASSERT(from >= 2 && from < count, "the search goes on at a literal that is not watched");
  for (at = from; at < count && value(lits[at]) == kFalse;) ++at;
  steps_ += (at - from) / 8;
  if (at == count) {
    for (at = 2; at < from && value(lits[at]) == kFalse;) ++at;
    steps_ += at / 8;
    if (at == from) return count;
  }
  lits[count].code = at;
  return at;
}

/// Draws all consequences. A conflict comes back as the place of a clause, or as kConflictOfTwo with its literals
/// in conflict_binary_.
std::uint32_t Cdcl::propagate() {
  while (propagated_ < trail_.size()) {
    const Lit fact = trail_[propagated_++];
    const std::uint32_t start = lists_[fact.code].start, size = lists_[fact.code].size;
    steps_ += size + 1;
    std::uint32_t kept = 0, conflict = kNoReason;
    for (std::uint32_t i = 0; i < size; ++i) {
      const Watch one = watches_[start + i];
      const std::uint8_t blocked = value(one.blocker);
      if (blocked == kTrue) {
        watches_[start + kept++] = one;
        continue;
      }
      if (one.clause == kBinary) {
        watches_[start + kept++] = one;
        if (blocked == kFalse) {
          conflict_binary_ = {~fact, one.blocker};
          conflict = kConflictOfTwo;
          while (++i < size) watches_[start + kept++] = watches_[start + i];
          break;
        }
        enqueue(one.blocker, kBinary | (~fact).code);
        continue;
      }
      Lit* const lits = &clauses_[one.clause + 1];
      const std::uint32_t count = clauses_[one.clause].code;
      if (lits[0] == ~fact) std::swap(lits[0], lits[1]);
      if (lits[0] != one.blocker && value(lits[0]) == kTrue) {
        watches_[start + kept++] = {one.clause, lits[0]};
        continue;
      }
      const std::uint32_t other = find_watchable(lits, count);
      if (other < count) {
        std::swap(lits[1], lits[other]);
        watch(~lits[1], {one.clause, lits[0]});  // never the list of `fact`: that literal is false
        continue;
      }
      watches_[start + kept++] = {one.clause, lits[0]};
      if (value(lits[0]) == kFalse) {
        conflict = one.clause;
        while (++i < size) watches_[start + kept++] = watches_[start + i];
        break;
      }
      enqueue(lits[0], one.clause);
    }
    lists_[fact.code].size = kept;
    if (conflict != kNoReason) {
      propagated_ = trail_.size();
      return conflict;
    }
  }
  return kNoReason;
}

/// The other literals of the clause that made `of` true; for a conflict, all its literals.
std::span<const Lit> Cdcl::others(std::uint32_t reason, Lit of, Lit& binary) const {
  if (reason == kConflictOfTwo) return conflict_binary_;
  if ((reason & kBinary) != 0) {
    binary = {reason & ~kBinary};
    return {&binary, 1};
  }
  static_cast<void>(of);
  return {&clauses_[reason + 1], clauses_[reason].code};
}

bool Cdcl::redundant(Lit lit) {
  const std::uint32_t reason = reason_[lit.var()];
  if (reason == kNoReason) return false;
  Lit binary;
  const auto lits = others(reason, lit, binary);
  return std::all_of(lits.begin(), lits.end(), [&](Lit one) {
    return one.var() == lit.var() || seen_[one.var()] != 0 || level_[one.var()] == 0;
  });
}

/// Resolves backwards from the conflict to the first unique implication point of the present level.
void Cdcl::analyze(std::uint32_t conflict, std::vector<Lit>& learnt, std::uint32_t& back_level) {
  HAMBREL_ASSERT(level() > 0, "at level 0 a conflict is the end");
  learnt.assign(1, Lit{});
  std::vector<Var> marked;
  std::size_t open = 0, at = trail_.size();
  Lit pivot{}, binary{};
  bool first = true;
  do {
    for (const Lit lit : others(conflict, pivot, binary)) {
      if ((!first && lit == pivot) || seen_[lit.var()] != 0 || level_[lit.var()] == 0) continue;
      seen_[lit.var()] = 1;
      marked.push_back(lit.var());
      bump(lit.var());
      if (level_[lit.var()] == level())
        ++open;
      else
        learnt.push_back(lit);
    }
    while (at > 0 && seen_[trail_[at - 1].var()] == 0) --at;
    HAMBREL_ASSERT(at > 0 && open > 0, "what is resolved was drawn at this level");
    pivot = trail_[--at];
    conflict = reason_[pivot.var()];
    first = false;
  } while (--open > 0);
  learnt[0] = ~pivot;
  learnt.erase(std::remove_if(learnt.begin() + 1, learnt.end(), [&](Lit lit) { return redundant(lit); }), learnt.end());
  for (const Var var : marked) seen_[var] = 0;
  back_level = 0;
  if (learnt.size() > 1) {
    const auto highest = std::max_element(learnt.begin() + 1, learnt.end(),
                                          [&](Lit a, Lit b) { return level_[a.var()] < level_[b.var()]; });
    std::swap(learnt[1], *highest);
    back_level = level_[learnt[1].var()];
  }
  HAMBREL_ASSERT(back_level < level(), "what is learnt takes something back");
}

/// Which assumptions (all decided at level 1) led to a conflict there, or made `failed`, one of them, false.
void Cdcl::analyze_final(std::uint32_t conflict, Lit failed) {
  core_.clear();
  Lit binary{};
  open_.clear();
  const auto look_at = [&](Lit lit) {
    if (level_[lit.var()] == 0 || std::exchange(seen_[lit.var()], 1) != 0) return;
    open_.push_back(lit.var());
  };
  if (conflict != kNoReason) {
    for (const Lit lit : others(conflict, {}, binary)) look_at(lit);
  } else {
    core_.push_back(failed);
    look_at(failed);
  }
  for (std::size_t i = 0; i < open_.size(); ++i) {
    const Var var = open_[i];
    const Lit lit = value(positive(var)) == kTrue ? positive(var) : negative(var);
    if (reason_[var] == kNoReason)
      core_.push_back(lit);
    else
      for (const Lit one : others(reason_[var], lit, binary)) look_at(one);
  }
  for (const Var var : open_) seen_[var] = 0;
}

void Cdcl::backtrack(std::uint32_t target) {
  if (level() <= target) return;
  for (std::size_t at = trail_.size(); at > trail_limits_[target]; --at) {
    const Lit lit = trail_[at - 1];
    const Var var = lit.var();
    values_[lit.code] = values_[(~lit).code] = kUnknown;
    phase_[var] = !lit.negative();
    cursor_ = std::min(cursor_, place_[var]);
    if (activity_[var] > 0 && heap_at_[var] == kNotInHeap) heap_insert(var);
  }
  trail_.resize(trail_limits_[target]);
  trail_limits_.resize(target);
  propagated_ = trail_.size();
}

void Cdcl::learn(std::uint32_t conflict) {
  std::vector<Lit> learnt;
  std::uint32_t back_level = 0;
  analyze(conflict, learnt, back_level);
  steps_ += 4 * learnt.size();
  backtrack(back_level);
  if (learnt.size() == 1) {
    enqueue(learnt[0], kNoReason);
  } else if (learnt.size() == 2) {
    watch(~learnt[0], {kBinary, learnt[1]});
    watch(~learnt[1], {kBinary, learnt[0]});
    enqueue(learnt[0], kBinary | learnt[1].code);
  } else {
    const std::uint32_t at = store(learnt);
    watch(~learnt[0], {at, learnt[1]});
    watch(~learnt[1], {at, learnt[0]});
    enqueue(learnt[0], at);
  }
  step_ /= kDecay;
}

/// Makes all assumptions at once, at level 1. False, with core_, if one of them is false already.
bool Cdcl::assume(std::span<const Lit> assumptions) {
  HAMBREL_ASSERT(level() == 0, "assumptions come before every decision");
  trail_limits_.push_back(trail_.size());
  for (const Lit lit : assumptions) {
    if (value(lit) == kFalse) {
      analyze_final(kNoReason, ~lit);
      // what made it false is in the core; the assumption itself comes to it
      core_[0] = lit;
      return false;
    }
    if (value(lit) == kUnknown) enqueue(lit, kNoReason);
  }
  return true;
}

Answer Cdcl::search(std::span<const Lit> assumptions, bool in_order, bool phase, std::span<const Lit> kept) {
  std::size_t next_kept = 0;  // those before it are decided
  core_.clear();
  backtrack(0);
  const bool assuming = !assumptions.empty();
  std::uint64_t round = 0, restart = kRestartUnit * luby(round);
  while (!broken_) {
    const std::uint32_t conflict = propagate();
    if (conflict != kNoReason) {
      ++conflicts_;
      if (level() == 0) {
        broken_ = true;
        break;
      }
      if (assuming && level() == 1) {
        analyze_final(conflict, {});
        backtrack(0);
        return Answer::No;
      }
      learn(conflict);
      next_kept = 0;
      if (restart > 0) --restart;
      continue;
    }
    if (steps_ > budget_) {
      backtrack(0);
      return Answer::Unknown;
    }
    if (restart == 0) {
      backtrack(0);
      next_kept = 0;
      restart = kRestartUnit * luby(++round);
      continue;
    }
    if (assuming && level() == 0) {
      if (!assume(assumptions)) {
        backtrack(0);
        return Answer::No;
      }
      continue;
    }
    while (next_kept < kept.size() && value(kept[next_kept]) != kUnknown) ++next_kept;
    if (next_kept < kept.size()) {
      trail_limits_.push_back(trail_.size());
      enqueue(kept[next_kept], kNoReason);
      continue;
    }
    const Var var = in_order ? pick_in_order() : pick();
    if (var == UINT32_MAX) {
      HAMBREL_ASSERT(trail_.size() == variables() && propagated_ == trail_.size(), "every variable has its value");
      for (Var one = 0; one < model_.size(); ++one) model_[one] = value(positive(one)) == kTrue;
      backtrack(0);
      return Answer::Yes;
    }
    trail_limits_.push_back(trail_.size());
    const bool up = in_order ? phase : phase_[var] != 0;
    enqueue(up ? positive(var) : negative(var), kNoReason);
  }
  return Answer::No;
}

Answer Cdcl::solve_keeping(std::span<const Lit> assumptions, std::span<const Lit> kept) {
  return search(assumptions, false, false, kept);
}

bool Cdcl::stand_on(std::span<const Lit> assumptions) {
  core_.clear();
  backtrack(0);
  if (broken_ || propagate() != kNoReason) return false;
  return assume(assumptions) && propagate() == kNoReason;
}

bool Cdcl::ruled_out(Lit lit) {
  HAMBREL_ASSERT(level() == 1, "assumptions stand");
  core_.clear();
  if (value(lit) == kTrue) return false;
  if (value(lit) == kFalse) {
    analyze_final(kNoReason, ~lit);
    core_[0] = lit;
    return true;
  }
  trail_limits_.push_back(trail_.size());
  enqueue(lit, kNoReason);
  const std::uint32_t conflict = propagate();
  if (conflict != kNoReason) analyze_final(conflict, {});
  backtrack(1);
  return conflict != kNoReason;
}

bool Cdcl::ruled_out(std::span<const Lit> lits) {
  HAMBREL_ASSERT(level() == 1, "assumptions stand");
  trail_limits_.push_back(trail_.size());
  bool refuted = false;
  for (const Lit lit : lits) {
    refuted = refuted || value(lit) == kFalse;
    if (value(lit) == kUnknown) enqueue(lit, kNoReason);
  }
  refuted = refuted || propagate() != kNoReason;
  backtrack(1);
  return refuted;
}

Cdcl Cdcl::where(std::span<const Lit> facts) const {
  Cdcl part;
  const std::size_t count = variables();
  part.level_.assign(count, 0);
  part.reason_.assign(count, kNoReason);
  part.seen_.assign(count, 0);
  part.values_.assign(2 * count, kUnknown);
  part.lists_.resize(2 * count);
  part.activity_.assign(count, 0);
  part.heap_at_.assign(count, kNotInHeap);
  part.phase_ = phase_;
  part.model_ = model_;
  part.order_ = order_;
  part.place_ = place_;
  part.broken_ = broken_;
  const auto enter = [&](Lit lit) {
    if (part.value(lit) == kFalse) part.broken_ = true;
    if (part.value(lit) == kUnknown) part.enqueue(lit, kNoReason);
  };
  const std::size_t known = trail_limits_.empty() ? trail_.size() : trail_limits_.front();
  for (std::size_t i = 0; i < known; ++i) enter(trail_[i]);
  for (const Lit lit : facts) enter(lit);
  for (std::size_t at = 0; at < clauses_.size(); at += clauses_[at].code + (clauses_[at].code > kLong ? 2 : 1))
    part.add(std::span(&clauses_[at + 1], clauses_[at].code));
  for (std::uint32_t code = 0; code < lists_.size(); ++code)
    for (const Watch& one : std::span(watches_.data() + lists_[code].start, lists_[code].size))
      if (const Lit other = ~Lit{code}; one.clause == kBinary && other.code < one.blocker.code)
        part.add({other, one.blocker});
  return part;
}

Answer Cdcl::solve(std::span<const Lit> assumptions) { return search(assumptions, false, false); }

Answer Cdcl::solve_first(bool phase) { return search({}, true, phase); }

}  // namespace hambrel::solve
