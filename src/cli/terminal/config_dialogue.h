// Asking about configuration that both sides changed: all files in one place and before anything is changed.
#pragma once

#include <vector>

#include "cli/session.h"
#include "operations/configuration_question.h"

namespace hambrel::cli {

/// Asks about each. Throws Error{Declined} at the end of the input.
txn::Choices ask_about(Session& session, const std::vector<operations::ConfigQuestion>& open);

/// A diff, indented; at most so many lines, and how many are left out. 0: all.
void print_diff(const Screen& screen, const std::string& before, const std::string& after, std::size_t most);

}  // namespace hambrel::cli
