// Why a request cannot be met: a minimal set of statements, shown as a chain; and what would have to be dropped.
#pragma once

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
  /// Names of a kind (Wanted or Held) whose statements have to be given up, `first` (if any) and then whatever stands
  /// in the way next, until the rest can be met: at most `most`, nothing if that is not enough. Minimal in the order in
  /// which they were met.
  std::optional<std::vector<std::string>> without(Cause::Kind kind, const std::string& first, std::size_t most);

 private:
  std::vector<std::size_t> minimal(const std::vector<std::size_t>& core) const;
  std::vector<std::size_t> statements_in(const std::vector<Lit>& core) const;

  Encoding encoding_;
  std::uint64_t budget_;
  std::vector<std::size_t> by_variable_;
  std::vector<Lit> selectors_;
};

}  // namespace hambrel::solve
