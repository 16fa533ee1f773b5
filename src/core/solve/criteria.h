// The levels that a selection is measured by, as soft literals, and the orders in which they count.
//
// Levels are data: a policy is a list of them. docs/solver.md says what each counts; tests hold that against a second
// reading of those words.
#pragma once

#include <memory>
#include <vector>

#include "solve/encoding.h"
#include "solve/optimize.h"

namespace hambrel::solve {

/// The levels for a request, the most important first.
const std::vector<Level>& levels_for(const Request& request);

/// What levels count, for the packages of an encoding. Made once, asked for one level after another: what one has
/// settled the next need not look at.
class Softs {
 public:
  explicit Softs(Encoding& encoding);
  ~Softs();
  Softs(const Softs&) = delete;
  Softs& operator=(const Softs&) = delete;
  std::vector<Soft> of(Level level);

 private:
  class Maker;
  std::unique_ptr<Maker> maker_;
};

}  // namespace hambrel::solve
