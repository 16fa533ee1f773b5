#include "plan/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "plan/held_back.h"
#include "plan/trees.h"
#include "solve/solver.h"

namespace hambrel::plan {

std::string_view text_of(Action action) {
  switch (action) {
    case Action::Install: return "install";
    case Action::Upgrade: return "upgrade";
    case Action::Downgrade: return "downgrade";
    case Action::Remove: return "remove";
    case Action::Repair: return "repair";
    case Action::Shelve: return "shelve";
    case Action::Unshelve: return "unshelve";
    case Action::Want: return "want";
    case Action::Unwant: return "unwant";
    case Action::Hold: return "hold";
    case Action::Release: return "release";
  }
  return "";
}

std::string Why::text() const {
  switch (kind) {
    case WhyKind::Asked: return "asked for";
    case WhyKind::Required: return fmt::format("{} requires {}", by, relation);
    case WhyKind::Recommended: return fmt::format("{} recommends {}", by, relation);
    case WhyKind::Newer: return "newer version";
    case WhyKind::Replacing: return fmt::format("replaces {}", by);
    case WhyKind::ReplacedBy: return fmt::format("replaced by {}", by);
    case WhyKind::LosesProvider: return fmt::format("requires {}, which is being removed", relation);
    case WhyKind::InConflict: return fmt::format("conflicts with {}", by);
    case WhyKind::Unneeded: return "no longer needed";
    case WhyKind::MakesRoom: return fmt::format("makes room for {}", by);
    case WhyKind::Stray: return "in the way, and no repository offers it any more";
    case WhyKind::Undone: return fmt::format("undoes transaction {}", by);
    case WhyKind::Damaged: return fmt::format("{} of its files damaged", by);
    case WhyKind::RolledBack: return fmt::format("as after transaction {}", by);
  }
  return {};
}

std::string_view text_of(ConfigAction action) {
  switch (action) {
    case ConfigAction::Keep: return "keep";
    case ConfigAction::Take: return "take";
    case ConfigAction::Merge: return "merge";
    case ConfigAction::Edit: return "edit";
    case ConfigAction::Wait: return "wait";
    case ConfigAction::Carry: return "carry";
    case ConfigAction::Purge: return "purge";
    case ConfigAction::Restore: return "restore";
    case ConfigAction::Ask: return "ask";
  }
  return "";
}

std::string ConfigStep::text() const {
  const std::string moved = from.empty() ? "" : fmt::format("moved here from /{}; ", from);
  switch (action) {
    case ConfigAction::Keep: return moved + "your version stays; the package's is not used";
    case ConfigAction::Take:
      return moved + (before ? "the package's version; yours is moved to the attic" : "the package's version");
    case ConfigAction::Merge: return moved + "your changes and the new version's, combined";
    case ConfigAction::Edit: return moved + "as you wrote it";
    case ConfigAction::Wait: return moved + "you edited it: your version stays, the new one waits for your decision";
    case ConfigAction::Carry: return moved + "your version moves with it";
    case ConfigAction::Purge: return leftover ? "a leftover; moved to the attic" : "edited; moved to the attic, too";
    case ConfigAction::Restore:
      if (!after) return "did not exist then; moved to the attic";
      return before ? "as it was then; the present file is moved to the attic" : "as it was then";
    case ConfigAction::Ask: return moved + "you changed it, and so did the new version";
  }
  return {};
}

std::string Notice::text() const {
  switch (kind) {
    case Kind::ConfigKept: return fmt::format("/{} was edited: your version stays", path);
    case Kind::ConfigDisplaced:
      return fmt::format("/{} was edited, and {} now has a directory there: your version is moved to the attic", path,
                         package);
    case Kind::ConfigStaysAway: return fmt::format("/{}: you deleted it; it will not be restored", path);
    case Kind::Leftover:
      return fmt::format("/{} was edited and is kept; `hambrel remove --purge {}` removes it, too", path, package);
    case Kind::Unowned:
      return fmt::format("/{} is not owned by any package: it is moved to the attic, {} has its own", path, package);
    case Kind::DirectoryStays: return fmt::format("/{} stays: it contains files no package owns", path);
    case Kind::DirectoryLower:
      return fmt::format("/{} stays, empty: it is in a lower layer of an overlay, which cannot rename it", path);
    case Kind::Changed: return fmt::format("/{} was changed since: that version is moved to the attic", path);
    case Kind::Lost:
      return fmt::format("/{} of {} cannot be restored: it is not in the attic, the cache or a repository", path,
                         package);
    case Kind::GivenUp:
      return fmt::format(
          "{} {} will no longer be undoable; going back to before {} will need the cache or a "
          "repository",
          path == package ? "transaction" : "transactions", path, package);
    case Kind::ConfigUnknown:
      return fmt::format("what was at /{} then is no longer known: files were dropped from the attic since", path);
    case Kind::ConfigUnmerged: return fmt::format("/{} cannot be merged: {}; the new version waits", path, package);
    case Kind::OwnSettings: return fmt::format("/{} of {} is one of Hambrel's own settings", path, package);
    case Kind::OpenToAll:
      return fmt::format("/{} of {} is a directory in which any user can replace other users' files", path, package);
    case Kind::Privileged:
      return fmt::format("/{} of {} runs with elevated privileges (set-user-ID, set-group-ID or capabilities)", path,
                         package);
  }
  return {};
}

ByteCount Plan::download() const {
  ByteCount sum = 0;
  for (const Step& step : steps) sum += step.download;
  return sum;
}

std::int64_t Plan::size_change() const {
  std::int64_t sum = 0;
  for (const Step& step : steps) sum += step.size_change;
  return sum;
}

std::size_t Plan::count(Action action) const {
  return static_cast<std::size_t>(
      std::count_if(steps.begin(), steps.end(), [&](const Step& step) { return step.action == action; }));
}

namespace {

class Planner {
 public:
  Planner(const Universe& universe, const solve::Request& request, const solve::Selection& selection,
          const Circumstances& circumstances)
      : universe_(universe), request_(request), chosen_(selection.chosen), circumstances_(circumstances) {
    in_.assign(universe.size(), 0);
    for (const solve::Target& target : request.install)
      asked_.insert(target.candidates.begin(), target.candidates.end());
    for (const PackageId id : chosen_) in_[index_of(id)] |= kAfter;
    for (const PackageId id : universe.installed()) in_[index_of(id)] |= kBefore;
    for (const PackageId id : chosen_)
      if (!was(id)) coming_.push_back(id);
    for (const PackageId id : universe.installed())
      if (!will_be(id)) going_.push_back(id);
    pair_up();
  }

  Plan run() {
    for (const PackageId id : chosen_)
      if (!was(id) || asked_.contains(id)) add(id);
    std::vector<Step> removals;
    for (const PackageId id : going_)
      if (!succeeded(id)) removals.push_back(removal(id));
    sort(removals);
    std::reverse(removals.begin(), removals.end());
    sort(plan_.steps);
    plan_.steps.insert(plan_.steps.end(), removals.begin(), removals.end());
    list_unneeded();
    list_held_back();
    return std::move(plan_);
  }

 private:
  enum : std::uint8_t { kBefore = 1, kAfter = 2 };
  bool was(PackageId id) const { return (in_[index_of(id)] & kBefore) != 0; }
  bool will_be(PackageId id) const { return (in_[index_of(id)] & kAfter) != 0; }

  bool asked_for(PackageId id) const { return asked_.contains(id); }

  /// The installed version whose place a coming one takes: where versions may stand side by side, none.
  std::optional<PackageId> predecessor(PackageId id) const {
    if (was(id)) return id;
    const auto found = predecessors_.find(id);
    return found == predecessors_.end() ? std::nullopt : std::optional(found->second);
  }

  bool succeeded(PackageId old) const { return succeeded_.contains(old); }

  std::optional<PackageId> replaced_by(PackageId id) const {  // an installed one that goes because this comes
    const auto found = replaced_.find(id);
    return found == replaced_.end() ? std::nullopt : std::optional(found->second);
  }

  /// Who comes in whose place.
  void pair_up() {
    for (const PackageId id : coming_) {
      if (universe_.parallel(id) > 1) continue;
      for (const PackageId old : universe_.installed_in_slot(id))
        if (!will_be(old) && predecessors_.emplace(id, old).second) succeeded_.insert(old);
    }
    for (const PackageId old : going_)
      for (const PackageId id : universe_.replacers_of(old))
        if (will_be(id)) replaced_.emplace(id, old);
  }

  void add(PackageId id) {
    const auto before = predecessor(id);
    const Reason reason = reason_after(id, before);
    if (before == id && (universe_.wanted(id) ? Reason::Wanted : Reason::PulledIn) == reason) return;
    Step step;
    step.name = universe_.name(id);
    step.arch = universe_.architecture(id);
    step.after = universe_.version(id);
    step.after_id = id;
    if (before) {
      step.before = universe_.version(*before);
      step.before_id = before;
    }
    step.reason = reason;
    if (before == id) {
      step.action = step.reason == Reason::Wanted ? Action::Want : Action::Unwant;
      step.origin = universe_[id].installed->origin;
      plan_.steps.push_back(std::move(step));
      return;
    }
    step.action = !before                                                                 ? Action::Install
                  : order_versions(universe_.version(*before), universe_.version(id)) < 0 ? Action::Upgrade
                                                                                          : Action::Downgrade;
    step.why = why(id, before);
    if (const auto offer = universe_.best_offer(id)) {
      step.origin = offer->repository.empty() ? universe_[id].offers.front().title()
                                              : fmt::format("{}/{}", offer->repository, offer->channel);
      step.download = download_of(id, offer->size);
    }
    step.size_change = static_cast<std::int64_t>(universe_.installed_size(id)) -
                       (before ? static_cast<std::int64_t>(universe_.installed_size(*before)) : 0);
    if (step.action == Action::Downgrade && circumstances_.keeps_reasons) {
      step.reason = universe_[*before].installed->reason;
      step.held = circumstances_.holds_asked && asked_for(id);
    }
    if (const auto shelved = circumstances_.shelved.find(id); shelved != circumstances_.shelved.end()) {
      step.action = Action::Unshelve;
      step.reason = shelved->second;
      step.size_change = 0;
    }
    plan_.steps.push_back(std::move(step));
  }

  ByteCount download_of(PackageId id, ByteCount size) const {
    if (circumstances_.at_hand.contains(id)) return 0;
    const auto partly = circumstances_.partly.find(id);
    return partly == circumstances_.partly.end() ? size : size - std::min(size, partly->second);
  }

  Reason reason_after(PackageId id, std::optional<PackageId> before) const {
    if (before == id && universe_.wanted(id)) return Reason::Wanted;
    if (asked_for(id)) return Reason::Wanted;
    if (before) return universe_.wanted(*before) ? Reason::Wanted : Reason::PulledIn;
    for (const PackageId old : universe_.installed_in_slot(id))
      if (universe_.wanted(old)) return Reason::Wanted;
    if (const auto old = replaced_by(id); old && universe_.wanted(*old)) return Reason::Wanted;
    return Reason::PulledIn;
  }

  using Caller = std::pair<PackageId, RelationId>;

  /// Would a person rather name this one: a package that was asked for, and of its relations the plainest.
  bool is_better_reason(const Caller& one, const Caller& known) const {
    if (one.first != known.first) return asked_for(one.first) && !asked_for(known.first);
    return relation_rank(universe_.text(one.second)) < relation_rank(universe_.text(known.second));
  }

  /// Who calls for what this plan brings: one that was asked for if it does, else the first; rather one that comes
  /// itself.
  void find_callers() {
    callers_found_ = true;
    const auto look = [&](PackageId asking, WhyKind kind) {
      const RelationList list = kind == WhyKind::Required ? RelationList::Requires : RelationList::Recommends;
      for (const RelationId relation : universe_.relations(asking, list))
        universe_.each_match(relation, [&](PackageId id) {
          if (!will_be(id) || was(id) || id == asking) return;
          const auto [known, fresh] = callers_.emplace(std::pair(id, kind), std::pair(asking, relation));
          if (!fresh && is_better_reason({asking, relation}, known->second)) known->second = {asking, relation};
        });
    };
    const auto all_called = [&] {
      return std::all_of(coming_.begin(), coming_.end(), [&](PackageId id) {
        return asked_for(id) || callers_.contains({id, WhyKind::Required}) ||
               callers_.contains({id, WhyKind::Recommended});
      });
    };
    for (const WhyKind kind : {WhyKind::Required, WhyKind::Recommended})
      for (const PackageId id : coming_) look(id, kind);
    for (const WhyKind kind : {WhyKind::Required, WhyKind::Recommended}) {
      if (all_called()) return;
      for (const PackageId id : chosen_)
        if (was(id)) look(id, kind);
    }
  }

  Why why(PackageId id, std::optional<PackageId> before) {
    if (asked_for(id)) return {WhyKind::Asked, "", ""};
    if (const auto old = replaced_by(id)) return {WhyKind::Replacing, std::string(universe_.name(*old)), ""};
    if (before && request_.upgrades(universe_, *before)) return {WhyKind::Newer, "", ""};
    if (!callers_found_) find_callers();
    for (const WhyKind kind : {WhyKind::Required, WhyKind::Recommended})
      if (const auto found = callers_.find({id, kind}); found != callers_.end())
        return {kind, std::string(universe_.name(found->second.first)), universe_.text(found->second.second)};
    return {before || !universe_.installed_in_slot(id).empty() ? WhyKind::Newer : WhyKind::Asked, "", ""};
  }

  Step removal(PackageId id) const {
    const Candidate& old = universe_[id];
    Step step;
    step.action = Action::Remove;
    step.name = old.package.name;
    step.arch = old.package.arch;
    step.before = old.package.version.text();
    step.before_id = id;
    step.origin = old.installed->origin;
    step.reason = old.installed->reason;
    step.size_change = -static_cast<std::int64_t>(old.package.installed_size);
    step.why = why_removed(id);
    return step;
  }

  /// Does one of the packages stand in conflict with another by the words of one of them?
  bool against(PackageId one, PackageId two) const {
    for (const RelationId relation : universe_.relations(one, RelationList::Conflicts)) {
      bool hit = false;
      universe_.each_match(relation, [&](PackageId id) { hit = hit || id == two; });
      if (hit) return true;
    }
    return false;
  }

  Why why_removed(PackageId id) const {
    if (request_.means(request_.remove, universe_, id)) return {WhyKind::Asked, "", ""};
    for (const PackageId other : universe_.replacers_of(id))
      if (will_be(other)) return {WhyKind::ReplacedBy, std::string(universe_.name(other)), ""};
    if (universe_.parallel(id) > 1)
      for (const PackageId other : universe_.slot(id))
        if (will_be(other)) return {WhyKind::MakesRoom, std::string(universe_.version(other)), ""};
    for (const PackageId other : coming_)
      if (against(other, id) || against(id, other))
        return {WhyKind::InConflict, std::string(universe_.name(other)), ""};
    for (const RelationId relation : universe_.relations(id, RelationList::Requires)) {
      bool met = false;
      universe_.each_match(relation, [&](PackageId other) { met = met || will_be(other); });
      if (!met) return {WhyKind::LosesProvider, "", universe_.text(relation)};
    }
    if (request_.drop_strays && universe_.wanted(id)) return {WhyKind::Stray, "", ""};
    return {WhyKind::Unneeded, "", ""};
  }

  /// Puts steps in the order in which each package comes after what it requires, depth first without recursion.
  void sort(std::vector<Step>& steps) const {
    const auto id_of = [](const Step& step) { return step.after_id ? *step.after_id : *step.before_id; };
    std::map<PackageId, std::size_t> place;
    std::set<PackageId> all, entered;
    for (const Step& step : steps) all.insert(id_of(step));
    for (const Step& step : steps) {
      std::vector<std::pair<PackageId, bool>> stack{{id_of(step), false}};
      while (!stack.empty()) {
        const auto [id, finished] = stack.back();
        stack.pop_back();
        if (finished) {
          place.emplace(id, place.size());
          continue;
        }
        if (!entered.insert(id).second) continue;
        stack.emplace_back(id, true);
        for (const RelationId relation : universe_.relations(id, RelationList::Requires))
          for (const PackageId other : universe_.matching(relation))
            if (all.contains(other)) stack.emplace_back(other, false);
      }
    }
    std::stable_sort(steps.begin(), steps.end(),
                     [&](const Step& a, const Step& b) { return place.at(id_of(a)) < place.at(id_of(b)); });
  }

  void list_unneeded() {
    if (going_.empty()) return;  // what only comes leaves nothing unneeded
    std::set<PackageId> wanted;
    for (const PackageId id : chosen_)
      if ((was(id) && universe_.wanted(id)) || (!was(id) && reason_after(id, predecessor(id)) == Reason::Wanted) ||
          asked_for(id))
        wanted.insert(id);
    for (const PackageId id : solve::unneeded(universe_, chosen_, wanted))
      plan_.unneeded.emplace_back(universe_.name(id));
  }

  void list_held_back() {
    if (!request_.upgrade_all && request_.upgrade.empty()) return;
    for (const PackageId id : universe_.installed()) {
      if (!request_.upgrades(universe_, id)) continue;
      const auto offered = universe_.newer_offer(id);
      if (!offered || will_be(*offered)) continue;
      HeldBack one;
      one.name = universe_.name(id);
      one.offered = universe_.version(*offered);
      one.offered_id = *offered;
      one.held = universe_.held(id) && !request_.means(request_.release, universe_, id);
      if (one.held) one.why = universe_[id].installed->hold->reason;
      for (const PackageId other : universe_.slot(id))
        if (will_be(other) && one.stays.empty()) one.stays = universe_.version(other);
      if (!one.stays.empty()) plan_.held_back.push_back(std::move(one));
    }
  }

  const Universe& universe_;
  const solve::Request& request_;
  const std::vector<PackageId>& chosen_;
  const Circumstances& circumstances_;
  std::vector<std::uint8_t> in_;
  std::vector<PackageId> coming_, going_;
  std::set<PackageId> asked_, succeeded_;
  std::map<PackageId, PackageId> predecessors_, replaced_;  // of what comes: what it takes the place of
  std::map<std::pair<PackageId, WhyKind>, Caller> callers_;
  bool callers_found_ = false;
  Plan plan_;
};

}  // namespace

Plan make_plan(const Universe& universe, const solve::Request& request, const solve::Selection& selection,
               const Circumstances& circumstances) {
  Plan plan = Planner(universe, request, selection, circumstances).run();
  plan.kind = circumstances.kind;
  plan.proved = selection.proved;
  explain_held_back(universe, selection.chosen, plan.held_back);
  if (circumstances.weigh_strays) plan.without_strays = circumstances.weigh_strays(plan.held_back);
  return plan;
}

Plan::WithoutStrays weigh(const Universe& universe, const solve::Request& request, const solve::Selection& selection) {
  std::vector<std::uint8_t> there(universe.size(), 0);
  for (const PackageId id : selection.chosen) there[index_of(id)] = 1;
  Plan::WithoutStrays result;
  for (const PackageId id : universe.installed()) {
    const auto versions = universe.slot(id), instead = universe.replacers_of(id);
    const auto stays = [&](PackageId one) { return there[index_of(one)] != 0; };
    const auto newer = universe.newer_offer(id);
    if (std::any_of(versions.begin(), versions.end(), stays))
      result.held_back += request.upgrades(universe, id) && newer && !stays(*newer) ? 1 : 0;
    else if (universe.wanted(id) && std::none_of(instead.begin(), instead.end(), stays))
      result.dropped.emplace_back(universe.name(id));
  }
  return result;
}

}  // namespace hambrel::plan
