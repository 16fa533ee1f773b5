// The search for the best selection of an encoding, and of a request where nobody asks why there is none.
#pragma once

#include <memory>
#include <optional>

#include "solve/encoding.h"
#include "solve/explain.h"
#include "solve/request.h"

namespace hambrel::solve {

/// What a request came to: a selection; or a proof that there is none, with what explains it; or, where both are
/// missing, neither within the budget.
struct [[nodiscard]] Outcome {
  std::optional<Selection> selection;
  std::shared_ptr<Explainer> why_not;
};

/// As solve() (solver.h), but a refusal is not explained unless that is asked for.
Outcome find_selection(const Universe& universe, const Request& request);

/// The same of a full encoding in which all roots are settled. Nothing where it has no model, or none was found within
/// the budget.
std::optional<Selection> find_selection(Encoding& encoding);

}  // namespace hambrel::solve
