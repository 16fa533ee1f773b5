// Weighted soft literals met as well as possible, core by core.
//
// OLL (Andres, Kaufmann, Matheis & Schaub, "Unsatisfiability-based optimization in clasp", 2012), in the form of
// Morgado, Dodaro & Marques-Silva ("Core-guided MaxSAT with soft cardinality constraints", 2014): a set of soft
// literals that can't all hold costs its smallest weight at least once; a totalizer (Bailleux & Boufkhad, 2003), grown
// only as far as it is asked, counts how many of them fail. Soft literals are taken up only when a model breaks them,
// the heavy ones first. Afterwards the optimum is a hard constraint, so that levels are met one after another.
#pragma once

#include <memory>
#include <unordered_map>
#include <vector>

#include "solve/cdcl.h"

namespace hambrel::solve {

struct Soft {
  Lit lit;                   // broken when false
  std::uint64_t weight = 1;  // what that costs
};

struct Optimum {
  std::uint64_t cost = 0;  // of the model
  bool proved = true;      // no model costs less
};

/// What is assumed beside the literals that a model has broken. All: also those that it met, for few that can't be had
/// among many; what can't shows at once then, without a model after each of them. Where many can't be had, each
/// question would go through all the others.
enum class Assumed { Broken, All };

/// Needs a model of the engine's clauses to begin with; leaves one of the least cost that it found, and the engine
/// constrained to that cost: exactly if it is proved, else to breaking nothing that this model meets.
Optimum minimize(Cdcl& engine, const std::vector<Soft>& softs, Assumed assumed = Assumed::Broken);

}  // namespace hambrel::solve
