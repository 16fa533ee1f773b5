// Which variable is decided next: by activity those that took part in conflicts, then by a fixed order.
#include <algorithm>
#include <utility>

#include "base/assert.h"
#include "solve/cdcl.h"

namespace hambrel::solve {

namespace {

constexpr double kTooLarge = 1e100;

}  // namespace

void Cdcl::set_order(const std::vector<Var>& order) {
  backtrack(0);
  std::vector<std::uint8_t> placed(order_.size(), 0);
  std::vector<Var> whole = order;
  for (const Var var : order) placed[var] = 1;
  for (Var var = 0; var < placed.size(); ++var)
    if (placed[var] == 0) whole.push_back(var);
  HAMBREL_ASSERT(whole.size() == order_.size(), "each variable stands in the order once");
  order_ = std::move(whole);
  for (std::uint32_t i = 0; i < order_.size(); ++i) place_[order_[i]] = i;
  cursor_ = 0;
}

void Cdcl::bump(Var var) {
  activity_[var] += step_;
  if (activity_[var] > kTooLarge) {
    for (double& one : activity_) one /= kTooLarge;
    step_ /= kTooLarge;
  }
  if (heap_at_[var] != kNotInHeap) heap_up(heap_at_[var]);
}

Var Cdcl::pick_in_order() {
  while (cursor_ < order_.size() && value(positive(order_[cursor_])) != kUnknown) ++cursor_;
  return cursor_ < order_.size() ? order_[cursor_] : UINT32_MAX;
}

Var Cdcl::pick() {
  while (!heap_.empty()) {
    const Var top = heap_[0];
    heap_at_[top] = kNotInHeap;
    const Var last = heap_.back();
    heap_.pop_back();
    if (!heap_.empty()) {
      heap_[0] = last;
      heap_at_[last] = 0;
      heap_down(0);
    }
    if (value(positive(top)) == kUnknown) return top;
  }
  return pick_in_order();
}

void Cdcl::heap_up(std::size_t at) {
  const Var var = heap_[at];
  while (at > 0 && above(var, heap_[(at - 1) / 2])) {
    heap_[at] = heap_[(at - 1) / 2];
    heap_at_[heap_[at]] = static_cast<std::uint32_t>(at);
    at = (at - 1) / 2;
  }
  heap_[at] = var;
  heap_at_[var] = static_cast<std::uint32_t>(at);
}

void Cdcl::heap_down(std::size_t at) {
  const Var var = heap_[at];
  for (std::size_t child = 2 * at + 1; child < heap_.size(); child = 2 * at + 1) {
    if (child + 1 < heap_.size() && above(heap_[child + 1], heap_[child])) ++child;
    if (!above(heap_[child], var)) break;
    heap_[at] = heap_[child];
    heap_at_[heap_[at]] = static_cast<std::uint32_t>(at);
    at = child;
  }
  heap_[at] = var;
  heap_at_[var] = static_cast<std::uint32_t>(at);
}

void Cdcl::heap_insert(Var var) {
  HAMBREL_ASSERT(heap_at_[var] == kNotInHeap, "a variable waits once");
  heap_.push_back(var);
  heap_at_[var] = static_cast<std::uint32_t>(heap_.size() - 1);
  heap_up(heap_.size() - 1);
}

}  // namespace hambrel::solve
