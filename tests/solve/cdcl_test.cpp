#include "solve/cdcl.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <random>

namespace hambrel::solve {

namespace {

using Clauses = std::vector<std::vector<Lit>>;

bool holds(const std::vector<Lit>& clause, std::uint32_t values) {
  return std::any_of(clause.begin(), clause.end(),
                     [&](Lit lit) { return ((values >> lit.var()) & 1U) != (lit.negative() ? 1U : 0U); });
}

/// By trying all values.
bool has_model(const Clauses& clauses, unsigned variables, const std::vector<Lit>& assumed) {
  std::uint32_t fixed = 0, given = 0;
  for (const Lit lit : assumed) {
    fixed |= 1U << lit.var();
    given |= (lit.negative() ? 0U : 1U) << lit.var();
  }
  const std::uint32_t open = ~fixed & ((1U << variables) - 1);
  // each subset of those that are open
  for (std::uint32_t values = open;; values = (values - 1) & open) {
    const auto is_met = [&](const auto& clause) { return holds(clause, values | given); };
    if (std::all_of(clauses.begin(), clauses.end(), is_met)) return true;
    if (values == 0) return false;
  }
}

}  // namespace

TEST(Cdcl, LongAndShortClausesTogetherAreAnsweredAsByTryingAll) {
  constexpr unsigned kVariables = 20;
  std::mt19937 generator(7);
  const auto chance = [&] { return static_cast<unsigned>(generator()); };
  const auto random_lits = [&](unsigned count) {
    std::vector<Var> variables(kVariables);
    for (Var var = 0; var < kVariables; ++var) variables[var] = var;
    std::shuffle(variables.begin(), variables.end(), generator);
    std::vector<Lit> lits;
    for (unsigned i = 0; i < count; ++i) lits.push_back({2 * variables[i] + (chance() % 4 == 0 ? 1U : 0U)});
    return lits;
  };
  unsigned with_model = 0, without = 0;
  for (int problem = 0; problem < 40; ++problem) {
    Cdcl engine;
    Clauses clauses;
    for (unsigned i = 0; i < kVariables; ++i) engine.new_variable(chance() % 2 == 0);
    for (int round = 0; round < 30; ++round) {
      clauses.push_back(random_lits(round % 3 == 0 ? 2 + chance() % 3 : 17 + chance() % 4));
      engine.add(clauses.back());
      std::vector<Lit> assumed = random_lits(10 + chance() % 6);
      for (Lit& lit : assumed) lit = ~lit;  // mostly what makes the literals of the long ones false
      const bool expected = has_model(clauses, kVariables, assumed);
      ++(expected ? with_model : without);
      ASSERT_EQ(engine.solve(assumed) == Answer::Yes, expected) << problem << ", " << round;
      ASSERT_EQ(engine.where(assumed).solve({}) == Answer::Yes, expected)
          << "a part of it, " << problem << ", " << round;
    }
  }
  EXPECT_GT(with_model, 100U);
  EXPECT_GT(without, 100U);
}

TEST(Cdcl, WhatHundredsRequireAndHundredsProvideIsDecidedInAboutAsManyStepsAsThereAreLiterals) {
  constexpr unsigned kMany = 400;
  Cdcl engine;
  std::vector<Lit> users;
  for (unsigned i = 0; i < kMany; ++i) users.push_back(positive(engine.new_variable(true)));
  std::vector<Lit> providers;
  for (unsigned i = 0; i < kMany; ++i) providers.push_back(positive(engine.new_variable(false)));
  for (const Lit user : users) {
    std::vector<Lit> clause = providers;
    clause.push_back(~user);
    engine.add(clause);
  }
  ASSERT_EQ(engine.solve(users), Answer::Yes);  // decides against one provider after the other, until the last
  EXPECT_TRUE(engine.model(providers.back()));
  EXPECT_LT(engine.steps(), 2 * kMany * kMany);
}

}  // namespace hambrel::solve
