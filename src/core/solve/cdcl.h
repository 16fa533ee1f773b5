// A satisfiability search of the small kind: conflict-driven clause learning on clauses that may grow between calls.
//
// Two watched literals and first-UIP learning with backjumping (Marques-Silva & Sakallah, GRASP, 1996; Moskewicz et
// al., Chaff, 2001), activity order, saved phases and assumptions with a final conflict (Een & Sorensson, "An
// Extensible SAT-solver", 2003), Luby restarts (Luby, Sinclair & Zuckerman, 1993). No inprocessing, no clause deletion:
// measured universes need tens of conflicts. Complete: it ends with a model or with a proof that there is none.
//
// Deterministic: ties go to the variable that was made first.
#pragma once

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

class Cdcl {
 public:
  /// A new variable; decisions give it `phase` until the search has learnt better.
  Var new_variable(bool phase);
  std::size_t variables() const { return level_.size(); }

  /// Adds a clause (true when one of its literals is). May be called between solves.
  void add(std::vector<Lit> clause);

  /// Is there a model in which all assumptions hold? With true, model() is one; with false, core() tells which
  /// assumptions can't hold together (empty: there is no model at all).
  bool solve(std::span<const Lit> assumptions);
  bool model(Var var) const { return model_[var]; }
  bool model(Lit lit) const { return model_[lit.var()] != lit.negative(); }
  const std::vector<Lit>& core() const { return core_; }
  std::uint64_t conflicts() const { return conflicts_; }

 private:
  enum class Value : std::uint8_t { Unknown, True, False };
  static constexpr std::uint32_t kNoClause = UINT32_MAX;
  struct Watch {
    std::uint32_t clause;
    Lit blocker;
  };

  Value value(Lit lit) const;
  void enqueue(Lit lit, std::uint32_t reason);
  std::uint32_t propagate();
  void attach(std::uint32_t clause);
  void analyze(std::uint32_t conflict, std::vector<Lit>& learnt, std::uint32_t& back_level);
  void analyze_final(Lit failed);
  bool redundant(Lit lit) const;
  void backtrack(std::uint32_t level);
  void bump(Var var);
  Var pick();
  void learn(std::uint32_t conflict);
  std::uint32_t level() const { return static_cast<std::uint32_t>(trail_limits_.size()); }

  // a binary heap of undecided variables by activity
  bool above(Var a, Var b) const;
  void heap_up(std::size_t at);
  void heap_down(std::size_t at);
  void heap_insert(Var var);

  bool broken_ = false;  // the clauses alone have no model
  std::vector<std::vector<Lit>> clauses_;
  std::vector<std::vector<Watch>> watches_;  // by literal code: clauses that watch its negation
  std::vector<Value> values_;                // by literal code
  std::vector<std::uint32_t> level_, reason_;
  std::vector<bool> phase_, seen_, model_;
  std::vector<double> activity_;
  double step_ = 1;
  std::vector<Var> heap_;
  std::vector<std::size_t> heap_at_;
  std::vector<Lit> trail_, core_;
  std::vector<std::size_t> trail_limits_;
  std::size_t propagated_ = 0;
  std::uint64_t conflicts_ = 0;
};

}  // namespace hambrel::solve
