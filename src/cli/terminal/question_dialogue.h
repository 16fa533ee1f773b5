// Asking what packages ask: all of it in one place and before anything is changed.
#pragma once

#include <vector>

#include "cli/session.h"
#include "operations/questions.h"

namespace hambrel::cli {

/// Asks each; nothing for none. Throws Error{Declined} at the end of the input.
operations::GivenAnswers ask_for(Session& session, const std::vector<operations::PackageQuestion>& open);

}  // namespace hambrel::cli
