// Questions of packages: who answers which, and what is left to ask.
//
// An answer comes from whoever asks for the change (a file of answers), else from hambrel.toml, else from the
// administrator if he can be asked, else from what he answered earlier, else it is the question's own default. All are
// known before the first change; programs of packages get them in their environment.
#pragma once

#include <map>
#include <string>
#include <utility>
#include <vector>

#include "operations/acting.h"

namespace hambrel::operations {

/// One that is still to be asked.
struct PackageQuestion {
  std::string package;
  Question question;
  std::string offered{};  // what an empty answer stands for; empty: nothing does
};

/// A file of answers of the host: TOML, a table for each package. Throws Error{NotFound}, Error{Invalid}.
GivenAnswers load_answers(const std::string& path);

/// Adds answers to the environment of what is to run, and all questions to the plan. Throws Error{Refused} for one that
/// nobody answers, Error{Invalid} for an answer that is none.
void add_answers(Root& root, txn::Planned& planned, const std::vector<rehearsal::Party>& parties,
                 const ActingTerms& terms);
/// Of the same plan, those that are to be asked.
std::vector<PackageQuestion> open_questions(Root& root, const txn::Planned& planned);

}  // namespace hambrel::operations
