// Asking about configuration that both sides changed: all files in one place and before anything is changed.
#pragma once

#include <vector>

#include "cli/session.h"
#include "operations/configuration_question.h"

namespace hambrel::cli {

/// Asks about each. Throws Error{Declined} at the end of the input.
operations::Decisions ask_about(Session& session, const std::vector<operations::ConfigQuestion>& open);

}  // namespace hambrel::cli
