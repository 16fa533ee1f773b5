// Why a request cannot be met: a minimal set of statements, shown as a chain; and what would have to be dropped.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "solve/encoding.h"
#include "solve/request.h"

namespace hambrel::solve {

/// One request with a selector for each of its statements, made once and asked as often as needed; a shared pointer
/// owns it. The universe and the request must outlive it.
class Explainer : public std::enable_shared_from_this<Explainer> {
 public:
  Explainer(const Universe& universe, const Request& request);

  /// For a request that has no solution. The causes are a minimal unsatisfiable subset of the statements (found from
  /// the final conflict by deletion, Bakker et al. 1993): leaving any one out makes the rest satisfiable.
  Refusal explain();
  /// The fewest names of a kind (Wanted or Held) whose statements have to be given up for the rest to be met, `first`
  /// (if any) among them and none of `keep`: a minimum, found core by core (optimize.h), or the best of the time
  /// allowed. Nothing where giving up all of the kind is not enough.
  std::optional<std::vector<std::string>> fewest(Cause::Kind kind, const std::string& first, const Names& keep);

 private:
  std::vector<std::size_t> minimal(const std::vector<std::size_t>& core) const;
  std::vector<std::size_t> statements_in(const std::vector<Lit>& core) const;

  const Cdcl& all_but(Cause::Kind kind);

  Encoding encoding_;
  std::map<Cause::Kind, Cdcl> all_but_;  // engines in which every statement of another kind stands
  std::uint64_t budget_;
  std::vector<std::size_t> by_variable_;
  std::vector<Lit> selectors_;
};

}  // namespace hambrel::solve
