// Who vouches for what a change brings: the keys of a repository whose root is trusted here, a key that signed a
// package file and is known here, or nobody.
#pragma once

#include <string>
#include <vector>

#include "operations/root.h"
#include "plan/plan.h"

namespace hambrel::operations {

/// A package file from outside that nobody vouches for who is known here: somebody has to accept that.
struct Doubt {
  std::string file, package;
  std::vector<std::string> keys{};  // ids of those that signed it; none: it is not signed
  std::string text() const;
};

/// The plan with who vouches put into each of its steps that bring something from outside; what nobody vouches for is
/// named among its notices. Of repositories no key is read: what was verified was remembered. Throws Error{Untrusted}
/// for a package file that a signature does not fit.
struct Vouched {
  plan::Plan plan;
  std::vector<Doubt> doubts;  // none where the settings accept unsigned files
};
Vouched vouched(Root& root, plan::Plan plan);

/// Who vouches for what a repository offers: of several that offer just this file, one that is verified. Nobody where
/// none is.
plan::Voucher voucher_of_offer(Root& root, PackageId id);

/// Throws Error{Declined} unless there are none, or they were accepted.
void require_accepted(const std::vector<Doubt>& doubts, bool accepted);

}  // namespace hambrel::operations
