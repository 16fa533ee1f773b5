#include "solve/cdcl.h"

#include <algorithm>
#include <utility>

namespace hambrel::solve {

namespace {

constexpr double kDecay = 0.95, kTooLarge = 1e100;
constexpr std::uint64_t kRestartUnit = 100;  // conflicts

/// The Luby sequence 1 1 2 1 1 2 4 ..., i from 0.
std::uint64_t luby(std::uint64_t i) {
  std::uint64_t size = 1, power = 1;
  while (size < i + 1) size = 2 * size + 1, power *= 2;
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
  reason_.push_back(kNoClause);
  phase_.push_back(phase);
  seen_.push_back(false);
  model_.push_back(false);
  activity_.push_back(0);
  values_.insert(values_.end(), 2, Value::Unknown);
  watches_.resize(watches_.size() + 2);
  heap_at_.push_back(SIZE_MAX);
  heap_insert(var);
  return var;
}

Cdcl::Value Cdcl::value(Lit lit) const { return values_[lit.code]; }

void Cdcl::add(std::vector<Lit> clause) {
  backtrack(0);
  std::sort(clause.begin(), clause.end(), [](Lit a, Lit b) { return a.code < b.code; });
  clause.erase(std::unique(clause.begin(), clause.end()), clause.end());
  std::vector<Lit> kept;
  for (std::size_t i = 0; i < clause.size(); ++i) {
    if (i + 1 < clause.size() && clause[i + 1] == ~clause[i]) return;  // always true
    if (value(clause[i]) == Value::True) return;
    if (value(clause[i]) == Value::Unknown) kept.push_back(clause[i]);
  }
  if (kept.empty()) {
    broken_ = true;
  } else if (kept.size() == 1) {
    enqueue(kept[0], kNoClause);
    if (propagate() != kNoClause) broken_ = true;
  } else {
    clauses_.push_back(std::move(kept));
    attach(static_cast<std::uint32_t>(clauses_.size() - 1));
  }
}

void Cdcl::attach(std::uint32_t clause) {
  const std::vector<Lit>& lits = clauses_[clause];
  watches_[(~lits[0]).code].push_back({clause, lits[1]});
  watches_[(~lits[1]).code].push_back({clause, lits[0]});
}

void Cdcl::enqueue(Lit lit, std::uint32_t reason) {
  values_[lit.code] = Value::True;
  values_[(~lit).code] = Value::False;
  level_[lit.var()] = level();
  reason_[lit.var()] = reason;
  trail_.push_back(lit);
}

std::uint32_t Cdcl::propagate() {
  while (propagated_ < trail_.size()) {
    const Lit fact = trail_[propagated_++];
    std::vector<Watch>& watches = watches_[fact.code];
    std::size_t kept = 0;
    for (std::size_t i = 0; i < watches.size(); ++i) {
      const Watch watch = watches[i];
      if (value(watch.blocker) == Value::True) {
        watches[kept++] = watch;
        continue;
      }
      std::vector<Lit>& lits = clauses_[watch.clause];
      if (lits[0] == ~fact) std::swap(lits[0], lits[1]);
      if (value(lits[0]) == Value::True) {
        watches[kept++] = {watch.clause, lits[0]};
        continue;
      }
      const auto other =
          std::find_if(lits.begin() + 2, lits.end(), [&](Lit lit) { return value(lit) != Value::False; });
      if (other != lits.end()) {
        std::swap(lits[1], *other);
        watches_[(~lits[1]).code].push_back({watch.clause, lits[0]});
        continue;
      }
      watches[kept++] = watch;
      if (value(lits[0]) == Value::False) {
        while (++i < watches.size()) watches[kept++] = watches[i];
        watches.resize(kept);
        propagated_ = trail_.size();
        return watch.clause;
      }
      enqueue(lits[0], watch.clause);
    }
    watches.resize(kept);
  }
  return kNoClause;
}

void Cdcl::bump(Var var) {
  activity_[var] += step_;
  if (activity_[var] > kTooLarge) {
    for (double& one : activity_) one /= kTooLarge;
    step_ /= kTooLarge;
  }
  if (heap_at_[var] != SIZE_MAX) heap_up(heap_at_[var]);
}

bool Cdcl::redundant(Lit lit) const {
  const std::uint32_t reason = reason_[lit.var()];
  if (reason == kNoClause) return false;
  return std::all_of(clauses_[reason].begin(), clauses_[reason].end(),
                     [&](Lit one) { return one.var() == lit.var() || seen_[one.var()] || level_[one.var()] == 0; });
}

/// Resolves backwards from the conflict to the first unique implication point of the present level.
void Cdcl::analyze(std::uint32_t conflict, std::vector<Lit>& learnt, std::uint32_t& back_level) {
  learnt.assign(1, Lit{});
  std::vector<Var> marked;
  std::size_t open = 0, at = trail_.size();
  Lit pivot{};
  bool first = true;
  do {
    for (const Lit lit : clauses_[conflict]) {
      if ((!first && lit == pivot) || seen_[lit.var()] || level_[lit.var()] == 0) continue;
      seen_[lit.var()] = true;
      marked.push_back(lit.var());
      bump(lit.var());
      if (level_[lit.var()] == level())
        ++open;
      else
        learnt.push_back(lit);
    }
    while (!seen_[trail_[at - 1].var()]) --at;
    pivot = trail_[--at];
    conflict = reason_[pivot.var()];
    first = false;
  } while (--open > 0);
  learnt[0] = ~pivot;
  learnt.erase(std::remove_if(learnt.begin() + 1, learnt.end(), [&](Lit lit) { return redundant(lit); }), learnt.end());
  for (const Var var : marked) seen_[var] = false;
  back_level = 0;
  if (learnt.size() > 1) {
    const auto highest = std::max_element(learnt.begin() + 1, learnt.end(),
                                          [&](Lit a, Lit b) { return level_[a.var()] < level_[b.var()]; });
    std::swap(learnt[1], *highest);
    back_level = level_[learnt[1].var()];
  }
}

/// Which assumptions made `failed` (an assumption) false.
void Cdcl::analyze_final(Lit failed) {
  core_.assign(1, failed);
  if (level() == 0) return;
  seen_[failed.var()] = true;
  for (std::size_t at = trail_.size(); at > trail_limits_[0]; --at) {
    const Lit lit = trail_[at - 1];
    if (!seen_[lit.var()]) continue;
    seen_[lit.var()] = false;
    if (reason_[lit.var()] == kNoClause) {
      if (lit != failed) core_.push_back(lit);  // decisions at these levels are assumptions
    } else {
      for (const Lit one : clauses_[reason_[lit.var()]])
        if (one.var() != lit.var() && level_[one.var()] > 0) seen_[one.var()] = true;
    }
  }
  seen_[failed.var()] = false;
}

void Cdcl::backtrack(std::uint32_t target) {
  if (level() <= target) return;
  for (std::size_t at = trail_.size(); at > trail_limits_[target]; --at) {
    const Lit lit = trail_[at - 1];
    values_[lit.code] = values_[(~lit).code] = Value::Unknown;
    phase_[lit.var()] = !lit.negative();
    if (heap_at_[lit.var()] == SIZE_MAX) heap_insert(lit.var());
  }
  trail_.resize(trail_limits_[target]);
  trail_limits_.resize(target);
  propagated_ = trail_.size();
}

void Cdcl::learn(std::uint32_t conflict) {
  std::vector<Lit> learnt;
  std::uint32_t back_level = 0;
  analyze(conflict, learnt, back_level);
  backtrack(back_level);
  if (learnt.size() == 1) {
    enqueue(learnt[0], kNoClause);
  } else {
    clauses_.push_back(learnt);
    const auto clause = static_cast<std::uint32_t>(clauses_.size() - 1);
    attach(clause);
    enqueue(learnt[0], clause);
  }
  step_ /= kDecay;
}

Var Cdcl::pick() {
  while (!heap_.empty()) {
    const Var top = heap_[0];
    heap_at_[top] = SIZE_MAX;
    const Var last = heap_.back();
    heap_.pop_back();
    if (!heap_.empty()) {
      heap_[0] = last;
      heap_at_[last] = 0;
      heap_down(0);
    }
    if (value(positive(top)) == Value::Unknown) return top;
  }
  return UINT32_MAX;
}

bool Cdcl::solve(std::span<const Lit> assumptions) {
  core_.clear();
  backtrack(0);
  std::uint64_t round = 0, budget = kRestartUnit * luby(round);
  while (!broken_) {
    const std::uint32_t conflict = propagate();
    if (conflict != kNoClause) {
      ++conflicts_;
      if (level() == 0) {
        broken_ = true;
        break;
      }
      learn(conflict);
      if (budget > 0) --budget;
      continue;
    }
    if (budget == 0) {
      backtrack(0);
      budget = kRestartUnit * luby(++round);
      continue;
    }
    if (level() < assumptions.size()) {
      const Lit next = assumptions[level()];
      if (value(next) == Value::False) {
        analyze_final(next);
        return false;
      }
      trail_limits_.push_back(trail_.size());
      if (value(next) == Value::Unknown) enqueue(next, kNoClause);
      continue;
    }
    const Var var = pick();
    if (var == UINT32_MAX) {
      for (Var one = 0; one < model_.size(); ++one) model_[one] = value(positive(one)) == Value::True;
      backtrack(0);
      return true;
    }
    trail_limits_.push_back(trail_.size());
    enqueue(phase_[var] ? positive(var) : negative(var), kNoClause);
  }
  return false;
}

bool Cdcl::above(Var a, Var b) const { return activity_[a] != activity_[b] ? activity_[a] > activity_[b] : a < b; }

void Cdcl::heap_up(std::size_t at) {
  const Var var = heap_[at];
  while (at > 0 && above(var, heap_[(at - 1) / 2])) {
    heap_[at] = heap_[(at - 1) / 2];
    heap_at_[heap_[at]] = at;
    at = (at - 1) / 2;
  }
  heap_[at] = var;
  heap_at_[var] = at;
}

void Cdcl::heap_down(std::size_t at) {
  const Var var = heap_[at];
  for (std::size_t child = 2 * at + 1; child < heap_.size(); child = 2 * at + 1) {
    if (child + 1 < heap_.size() && above(heap_[child + 1], heap_[child])) ++child;
    if (!above(heap_[child], var)) break;
    heap_[at] = heap_[child];
    heap_at_[heap_[at]] = at;
    at = child;
  }
  heap_[at] = var;
  heap_at_[var] = at;
}

void Cdcl::heap_insert(Var var) {
  heap_.push_back(var);
  heap_at_[var] = heap_.size() - 1;
  heap_up(heap_.size() - 1);
}

}  // namespace hambrel::solve
