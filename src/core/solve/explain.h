// Why a request cannot be met: a minimal set of statements, shown as a chain; and what would have to be dropped.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/parallel.h"
#include "solve/encoding.h"
#include "solve/request.h"

namespace hambrel::solve {

/// One request with selectors for its roots, made once and asked as often as needed; a shared pointer owns it. The
/// universe must outlive it.
class Explainer : public std::enable_shared_from_this<Explainer> {
 public:
  using Fewest = std::optional<std::vector<std::string>>;
  Explainer(const Universe& universe, const Request& request);
  /// From a full encoding with selectors for roots, none of which is settled.
  explicit Explainer(std::shared_ptr<Encoding> roots);

  /// For a request that has no solution. In a large root the first thing that remedies ask is looked for meanwhile, by
  /// a thread that reads the universe until settle(). The causes are a minimal unsatisfiable subset of the statements
  /// (found from the final conflict by deletion, Bakker et al. 1993): leaving any one out makes the rest satisfiable.
  Refusal explain();
  /// The fewest names of a kind (Wanted or Held) whose statements have to be given up for the rest to be met, `first`
  /// (if any) among them, and nothing wanted that is to be installed: a minimum, found core by core (optimize.h), or
  /// the best of the time allowed. Nothing where giving up all of the kind is not enough.
  Fewest fewest(Cause::Kind kind, const std::string& first);
  /// Waits for what is looked for meanwhile: to be called, or this let go, before the universe is.
  void settle();
  /// A like request as a problem of its own: see the last constructor of Encoding.
  Encoding with(const Request& other) const { return {*roots_, other}; }
  /// Is this a package that a selection of the request may hold?
  bool reaches(PackageId id) const { return roots_->lit(id) != ~Encoding::truth(); }

 private:
  /// The places of the statements of roots that clash, where these stand. Nothing where that was not found out within
  /// the budget, or where they don't.
  std::optional<std::vector<std::size_t>> find_clash(const std::vector<Lit>& standing, std::uint64_t budget);
  /// A minimal set of causes that clash, by these roots and what can be reached from them. Empty where none was found
  /// within the budget.
  std::vector<Cause> find_causes(const std::vector<std::size_t>& clash, std::uint64_t budget) const;
  const Cdcl& all_but(Cause::Kind kind);
  Fewest find_fewest(Cause::Kind kind, const std::string& first);

  std::shared_ptr<Encoding> roots_;
  std::map<Cause::Kind, Cdcl> all_but_;  // engines in which every root of another kind stands
  std::uint64_t budget_;
  Aside<Fewest> fewest_wanted_;  // looked for while the refusal is explained
  std::optional<Fewest> known_fewest_wanted_;
};

}  // namespace hambrel::solve
