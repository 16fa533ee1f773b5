#include "txn/choices.h"

#include <map>

namespace hambrel::txn {

void take_choices_back(const state::State& state, state::TxnId id, Planned& undo) {
  auto picks = state.picks();
  for (const state::PickChange& one : state.pick_changes_of(id))
    if (picks[one.path] == one.after) undo.picks.push_back({one.path, one.after, one.before});
  auto follows = state.follows();
  for (const state::FollowChange& one : state.follow_changes_of(id))
    if (follows[one.name] == one.after) undo.add_follow({one.name, one.after, one.before});
}

void put_choices_back(const state::State& state, state::TxnId to, Planned& rollback) {
  std::map<std::string, std::string> picks, follows;  // as they were: what the first change since found
  for (std::int64_t id = number(to) + 1; id < number(state.next_id()); ++id) {
    for (const state::PickChange& one : state.pick_changes_of(state::TxnId{id})) picks.emplace(one.path, one.before);
    for (const state::FollowChange& one : state.follow_changes_of(state::TxnId{id}))
      follows.emplace(one.name, one.before);
  }
  auto picks_now = state.picks(), follows_now = state.follows();
  for (const auto& [path, before] : picks)
    if (picks_now[path] != before) rollback.picks.push_back({path, picks_now[path], before});
  for (const auto& [name, before] : follows)
    if (follows_now[name] != before) rollback.add_follow({name, follows_now[name], before});
}

}  // namespace hambrel::txn
