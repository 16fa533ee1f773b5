#include "txn/look_ahead.h"

#include <algorithm>

#include "base/parallel.h"
#include "os/neighbours.h"
#include "txn/disk_facts.h"

namespace hambrel::txn {

LookAhead::LookAhead(os::FileReader& root, const state::State& state, const std::vector<std::int64_t>& rows)
    : root_(root) {
  constexpr std::size_t kPortion = 250;
  std::size_t count = 0;
  for (const std::int64_t row : rows) {
    const auto list = state.files_of(row);
    count += list->size();
    asked_[row] = {list, std::vector<std::uint8_t>(list->size())};
  }
  if (count < kFewLooks) {
    asked_.clear();
    return;
  }
  for (auto& [row, one] : asked_)
    for (std::size_t first = 0; first < one.answers.size(); first += kPortion)
      portions_.push_back({&one, first, std::min(first + kPortion, one.answers.size())});
  other_ = aside([this] { look(); });
}

LookAhead::~LookAhead() { next_ = portions_.size(); }  // the future waits for what was begun

void LookAhead::look() {
  os::Looker looker(root_);
  for (std::size_t i = next_++; i < portions_.size(); i = next_++) {
    const Portion& portion = portions_[i];
    for (std::size_t k = portion.first; k < portion.last; ++k)
      portion.asked->answers[k] = as_recorded(root_, looker, *portion.asked->list, k) ? 1 : 0;
  }
}

const std::vector<std::uint8_t>* LookAhead::of(std::int64_t row) {
  if (other_.valid()) {
    look();
    other_.get();
  }
  const auto found = asked_.find(row);
  return found == asked_.end() ? nullptr : &found->second.answers;
}

}  // namespace hambrel::txn
