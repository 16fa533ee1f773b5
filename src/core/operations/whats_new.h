// What a refresh brought, and what is known of the security of what is installed.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "model/advisory.h"
#include "operations/root.h"
#include "plan/plan.h"

namespace hambrel::operations {

/// Between two catalogues, as far as followed channels offer it.
struct WhatsNew {
  std::vector<std::string> packages;       // names that were not there
  std::vector<std::string> newer;          // "saltdb 1.9-3": packages whose newest version is another, newer one
  std::vector<std::string> gone;           // names that are not there any more
  std::vector<std::string> recipes;        // names of recipes that were not there
  std::vector<std::string> newer_recipes;  // "harbour-bell 2.1-1"
};

/// The catalogue of a root as it is now, to be compared with a later one. Cheap to make.
class Offered {
 public:
  explicit Offered(Root& root);
  /// `packages`: also what is new of them, which is nothing where it would have had to be compiled.
  WhatsNew until_now(Root& root, bool packages) const;

 private:
  const std::shared_ptr<const Layer> base_;  // nothing where it would have to be compiled
  const View view_;
  const std::map<std::string, std::string> recipes_;  // name, version
};

/// An installed package of whose version a repository knows a security problem.
struct KnownProblem {
  PackageId installed{};
  std::optional<PackageId> fixed_by{};  // the newest version that would come with an upgrade, if it has none of them
  std::vector<Advisory> advisories{};
};
/// "SKERRY-2026-1 (high): strangers can read the store", fit to be printed.
std::string text_of(const Advisory& advisory);
/// What a plan does about known security problems: a sentence for each that goes, stays or comes.
std::vector<std::string> security_remarks(Root& root, const plan::Plan& plan);
/// In the order of their names. Where the advisories of a repository can't be read, that is told the observer.
std::vector<KnownProblem> known_problems(Root& root);

}  // namespace hambrel::operations
