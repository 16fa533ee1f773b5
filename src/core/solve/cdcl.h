// A satisfiability search of the small kind: conflict-driven clause learning on clauses that may grow between calls.
//
// Two watched literals and first-UIP learning with backjumping (Marques-Silva & Sakallah, GRASP, 1996; Moskewicz et
// al., Chaff, 2001), clauses of two literals kept apart, saved phases and assumptions with a final conflict (Een &
// Sorensson, "An Extensible SAT-solver", 2003), Luby restarts (Luby, Sinclair & Zuckerman, 1993), long clauses in which
// the search for a literal goes on where it ended (Gent, "Optimal Implementation of Watched Literals", 2013). Decisions
// go by activity among the variables that took part in conflicts, then by a fixed order. No inprocessing, no clause
// deletion: measured universes need tens of conflicts. Complete: unless its budget runs out it ends with a model or
// with a proof that there is none.
//
// Deterministic: no clock and no address decides anything; a budget is counted in steps of the search.
#pragma once

#include <algorithm>
#include <cstdint>
#include <span>
#include <vector>

namespace hambrel::solve {

using Var = std::uint32_t;

struct Lit {
  std::uint32_t code = 0;  // 2 * variable, + 1 when negated
  Var var() const { return code >> 1U; }
  bool negative() const { return (code & 1U) != 0; }
  Lit operator~() const { return {code ^ 1U}; }
  bool operator==(const Lit&) const = default;
};
inline Lit positive(Var var) { return {var << 1U}; }
inline Lit negative(Var var) { return {(var << 1U) | 1U}; }

enum class Answer { Yes, No, Unknown };  // Unknown: the budget ran out

class Cdcl {
 public:
  /// A new variable; decisions give it `phase` until the search has learnt better. It goes last in the fixed order.
  Var new_variable(bool phase);
  std::size_t variables() const { return level_.size(); }
  void set_phase(Var var, bool phase) { phase_[var] = phase; }
  /// The fixed order of decisions; variables that are not in it come after it, in the order of their making.
  void set_order(const std::vector<Var>& order);

  /// Adds a clause (true when one of its literals is). May be called between solves.
  void add(std::span<const Lit> clause);
  void add(std::initializer_list<Lit> clause) { add(std::span(clause.begin(), clause.size())); }

  /// Is there a model in which all assumptions hold? After Yes, model() is one; after No, core() tells which
  /// assumptions can't hold together (empty: there is no model at all). After Unknown the last model stands.
  Answer solve(std::span<const Lit> assumptions);
  /// As solve, but decisions follow the fixed order and `phase` alone: the model found is the first one in the
  /// lexicographic order in which earlier variables count more and `phase` comes first. What was learnt before only
  /// spares work.
  Answer solve_first(bool phase);
  /// Assumes these for ruled_out(). False: unit propagation finds that they can't hold together.
  bool stand_on(std::span<const Lit> assumptions);
  /// Does unit propagation from what stand_on() assumed rule a literal out? Then core() tells which assumptions do.
  /// Whatever else is asked of the engine ends the standing.
  bool ruled_out(Lit lit);
  /// The same of several together, without a core.
  bool ruled_out(std::span<const Lit> lits);
  /// As solve, but of all models the first one in the lexicographic order in which earlier ones of `kept` count more
  /// and are true. Those that are false in it are a minimal set that has to be given up (a minimal correction set).
  Answer solve_keeping(std::span<const Lit> assumptions, std::span<const Lit> kept);
  /// The same problem where `facts` hold besides, made small: what they settle is not in it. Variables keep their
  /// numbers.
  Cdcl where(std::span<const Lit> facts) const;
  /// Steps that solves may take together from now on: clauses and literals looked at.
  void set_budget(std::uint64_t steps) { budget_ = steps > UINT64_MAX - steps_ ? UINT64_MAX : steps_ + steps; }
  std::uint64_t steps() const { return steps_; }

  /// What a variable that was made after the last model would have been in it.
  void set_model(Var var, bool value) { model_[var] = value; }
  const std::vector<std::uint8_t>& whole_model() const { return model_; }
  /// Makes an earlier model the last one again; variables that were made since keep what they have.
  void restore_model(const std::vector<std::uint8_t>& model) { std::copy(model.begin(), model.end(), model_.begin()); }
  bool model(Var var) const { return model_[var] != 0; }
  bool model(Lit lit) const { return (model_[lit.var()] != 0) != lit.negative(); }
  const std::vector<Lit>& core() const { return core_; }
  std::uint64_t conflicts() const { return conflicts_; }
  /// Does the literal hold, or fail, in every model? Known without search only.
  bool always(Lit lit) const { return value(lit) == kTrue && level_[lit.var()] == 0; }
  bool never(Lit lit) const { return always(~lit); }

 private:
  static constexpr std::uint8_t kUnknown = 0, kTrue = 1, kFalse = 2;
  static constexpr std::uint32_t kNotInHeap = UINT32_MAX, kLong = 16;
  static constexpr std::uint32_t kNoReason = UINT32_MAX, kConflictOfTwo = UINT32_MAX - 1, kBinary = 1U << 31U;
  struct Watch {
    std::uint32_t clause;  // kBinary: the blocker is all there is besides
    Lit blocker;
  };
  /// The watches of all literals in one array: lists that outgrow their place move to the end.
  struct WatchList {
    std::uint32_t start = 0, size = 0, room = 0;
  };

  std::uint8_t value(Lit lit) const { return values_[lit.code]; }
  void enqueue(Lit lit, std::uint32_t reason);
  std::uint32_t propagate();
  std::uint32_t find_watchable(Lit* lits, std::uint32_t count);
  void watch(Lit lit, Watch watch);
  std::uint32_t store(std::span<const Lit> clause);
  std::span<const Lit> others(std::uint32_t reason, Lit of, Lit& binary) const;
  void analyze(std::uint32_t conflict, std::vector<Lit>& learnt, std::uint32_t& back_level);
  void analyze_final(std::uint32_t conflict, Lit failed);
  bool redundant(Lit lit);
  void backtrack(std::uint32_t level);
  void bump(Var var);
  Var pick();
  Var pick_in_order();
  void learn(std::uint32_t conflict);
  bool assume(std::span<const Lit> assumptions);
  Answer search(std::span<const Lit> assumptions, bool in_order, bool phase, std::span<const Lit> kept = {});
  std::uint32_t level() const { return static_cast<std::uint32_t>(trail_limits_.size()); }

  // a binary heap of variables with activity
  bool above(Var a, Var b) const { return activity_[a] != activity_[b] ? activity_[a] > activity_[b] : a < b; }
  void heap_up(std::size_t at);
  void heap_down(std::size_t at);
  void heap_insert(Var var);

  bool broken_ = false;               // the clauses alone have no model
  std::vector<Lit> clauses_;          // each: its length, its literals, of a long one where find_watchable() goes on
  std::vector<Watch> watches_;        // see WatchList
  std::vector<WatchList> lists_;      // by literal code: clauses that watch its negation
  std::vector<std::uint8_t> values_;  // by literal code
  std::vector<std::uint32_t> level_, reason_;
  std::vector<std::uint8_t> phase_, seen_, model_;
  std::vector<double> activity_;
  double step_ = 1;
  std::vector<Var> heap_;
  std::vector<std::uint32_t> heap_at_;
  std::vector<Var> order_;            // place -> variable
  std::vector<std::uint32_t> place_;  // variable -> place
  std::uint32_t cursor_ = 0;          // no place before it is undecided
  std::vector<Lit> trail_, core_, conflict_binary_, scratch_;
  std::vector<Var> open_;  // of an analysis
  std::vector<std::size_t> trail_limits_;
  std::size_t propagated_ = 0;
  std::uint64_t conflicts_ = 0, steps_ = 0, budget_ = UINT64_MAX;
};

}  // namespace hambrel::solve
