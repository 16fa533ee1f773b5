// Why a request can't be met: a minimal set of statements, told as a chain.
#pragma once

#include "solve/request.h"

namespace hambrel::solve {

/// For a request that has no solution. The causes are a minimal unsatisfiable subset of the statements (found from the
/// final conflict by deletion, Bakker et al. 1993): leaving any one out makes the rest satisfiable.
Refusal explain(const Universe& universe, const Request& request);

}  // namespace hambrel::solve
