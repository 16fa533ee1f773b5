#include "plan/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <unordered_map>
#include <utility>

#include "base/assert.h"
#include "base/parallel.h"
#include "plan/held_back.h"
#include "plan/trees.h"
#include "solve/solver.h"

namespace hambrel::plan {

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

constexpr std::size_t kFewHeldBack = 8;
constexpr std::size_t kFewSteps = 200;  // are planned and checked in less time than another thread takes to begin

/// Is something wanted in the way that nobody offers any more?
bool is_stray_named(const Universe& universe, const std::vector<HeldBack>& held_back) {
  return std::any_of(held_back.begin(), held_back.end(), [&](const HeldBack& one) {
    const auto id = one.by.empty() ? std::nullopt : universe.installed_of(one.by);
    return id && universe.wanted(*id) && !universe.is_slot_offered(*id);
  });
}

/// What an upgrade should have put in the place of an installed package and did not: what takes over for it, or its
/// newest version.
template <typename Chosen>
std::optional<PackageId> left_behind(const Universe& universe, PackageId installed, const Chosen& is_chosen) {
  std::optional<PackageId> first;
  for (const PackageId other : universe.replacers_of(installed)) {
    if (!universe.offered(other) && !universe.is_installed(other)) continue;
    if (is_chosen(other)) return std::nullopt;
    if (!first) first = other;
  }
  if (first) return first;
  const std::vector<PackageId> newest = universe.newest_offers(installed);
  if (newest.empty() || std::any_of(newest.begin(), newest.end(), is_chosen)) return std::nullopt;
  return newest.front();
}

class Planner {
 public:
  Planner(const Universe& universe, const solve::Request& request, const solve::Selection& selection,
          const Circumstances& circumstances)
      : universe_(universe), request_(request), chosen_(selection.chosen), circumstances_(circumstances) {
    in_.assign(universe.size(), 0);
    for (const solve::Target& target : request.install)
      asked_.insert(target.candidates.begin(), target.candidates.end());
    for (const PackageId id : chosen_) {
      HAMBREL_ASSERT(!will_be(id), "a package is chosen once");
      in_[index_of(id)] |= kAfter;
    }
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
    return std::move(plan_);
  }

  std::size_t most_steps() const { return coming_.size() + going_.size(); }

  std::vector<HeldBack> held_back() const {
    std::vector<HeldBack> result;
    if (!request_.upgrade_all && request_.upgrade.empty()) return result;
    for (const PackageId id : universe_.installed()) {
      if (!request_.upgrades(universe_, id)) continue;
      const auto offered = left_behind(universe_, id, [&](PackageId one) { return will_be(one); });
      if (!offered) continue;
      HeldBack one;
      one.name = universe_.name(id);
      one.offered = universe_.version(*offered);
      one.offered_id = *offered;
      if (universe_.name_id(*offered) != universe_.name_id(id)) one.renamed = universe_.name(*offered);
      one.held = universe_.held(id) && !request_.means(request_.release, universe_, id);
      if (one.held) one.why = universe_[id].installed->hold->reason;
      for (const PackageId other : universe_.slot(id))
        if (will_be(other) && one.stays.empty()) one.stays = universe_.version(other);
      result.push_back(std::move(one));
    }
    return result;
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
      HAMBREL_ASSERT(universe_.is_installed(id), "its reason changes where it is");
      step.action = step.reason == Reason::Wanted ? Action::Want : Action::Unwant;
      step.origin = universe_[id].installed->origin;
      plan_.steps.push_back(std::move(step));
      return;
    }
    step.action = Action::Install;
    if (before)
      step.action =
          order_versions(universe_.version(*before), universe_.version(id)) <= 0 ? Action::Upgrade : Action::Downgrade;
    step.why = why(id, before);
    if (const auto offer = universe_.best_offer(id)) {
      step.origin = offer->repository.empty() ? universe_[id].offers.front().title()
                                              : fmt::format("{}/{}", offer->repository, offer->channel);
      step.download = download_of(id, offer->size);
    }
    step.size_change = static_cast<std::int64_t>(universe_.installed_size(id)) -
                       (before ? static_cast<std::int64_t>(universe_.installed_size(*before)) : 0);
    if ((step.action == Action::Downgrade || step.action == Action::Upgrade) && circumstances_.keeps_reasons) {
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

  struct Caller {
    PackageId who;
    RelationId relation;
  };
  using Callers = std::unordered_map<PackageId, Caller>;

  /// Would a person rather name this one: a package that was asked for, and of its relations the plainest.
  bool is_better_reason(const Caller& one, const Caller& known) const {
    if (one.who != known.who) return asked_for(one.who) && !asked_for(known.who);
    return relation_rank(universe_, one.relation) < relation_rank(universe_, known.relation);
  }

  /// Is there nothing new about a relation, as the version before met it already?
  bool was_met(RelationId relation, PackageId id) const {
    const auto before = predecessor(id);
    const Ids matching = universe_.matching(relation);
    return before && std::find(matching.begin(), matching.end(), *before) != matching.end();
  }

  void find_callers(PackageId asking, RelationList list, Callers& callers) const {
    for (const RelationId relation : universe_.relations(asking, list))
      for (const PackageId id : universe_.matching(relation)) {
        if (!will_be(id) || was(id) || id == asking || was_met(relation, id)) continue;
        const auto [known, fresh] = callers.try_emplace(id, Caller{asking, relation});
        if (!fresh && is_better_reason({asking, relation}, known->second)) known->second = {asking, relation};
      }
  }

  /// Who calls for what this plan brings: one that was asked for if it does, else the first; rather one that comes
  /// itself.
  void find_callers() {
    callers_found_ = true;
    const auto all_called = [&] {
      return std::all_of(coming_.begin(), coming_.end(), [&](PackageId id) {
        return asked_for(id) || required_.contains(id) || recommended_.contains(id);
      });
    };
    const auto look = [&](PackageId id) {
      find_callers(id, RelationList::Requires, required_);
      find_callers(id, RelationList::Recommends, recommended_);
    };
    for (const PackageId id : coming_) look(id);
    if (all_called()) return;
    for (const PackageId id : chosen_)
      if (was(id)) look(id);
  }

  /// What comes in a new version that nobody requires, because another one that comes conflicts with the old one.
  std::optional<Why> conflict_with_old(PackageId before) const {
    for (const PackageId id : coming_)
      for (const RelationList list : {RelationList::Conflicts, RelationList::Replaces})
        for (const RelationId relation : universe_.relations(id, list)) {
          const Ids against = universe_.matching(relation);
          if (universe_.name_id(id) != universe_.name_id(before) &&
              std::find(against.begin(), against.end(), before) != against.end())
            return Why{WhyKind::OldInConflict, std::string(universe_.name(id)), universe_.text(relation)};
        }
    return std::nullopt;
  }

  Why why(PackageId id, std::optional<PackageId> before) {
    if (asked_for(id)) return {WhyKind::Asked, "", ""};
    if (const auto old = replaced_by(id)) return {WhyKind::Replacing, std::string(universe_.name(*old)), ""};
    if (before && request_.upgrades(universe_, *before)) return {WhyKind::Newer, "", ""};
    if (!callers_found_) find_callers();
    const auto called = [&](WhyKind kind, const Caller& caller) {
      return Why{kind, std::string(universe_.name(caller.who)), universe_.text(caller.relation)};
    };
    if (const auto found = required_.find(id); found != required_.end())
      return called(WhyKind::Required, found->second);
    if (before)
      if (auto conflict = conflict_with_old(*before)) return std::move(*conflict);
    if (const auto found = recommended_.find(id); found != recommended_.end())
      return called(WhyKind::Recommended, found->second);
    return {before || !universe_.installed_in_slot(id).empty() ? WhyKind::Newer : WhyKind::Asked, "", ""};
  }

  Step removal(PackageId id) const {
    const Candidate& old = universe_[id];
    HAMBREL_ASSERT(old.installed.has_value(), "what goes is there");
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

  /// Wanted, and nothing that is followed has any version of it.
  bool is_stray(PackageId id) const { return universe_.wanted(id) && !universe_.is_slot_offered(id); }

  Why why_removed(PackageId id) const {
    if (request_.means(request_.remove, universe_, id)) return {WhyKind::Asked, "", ""};
    for (const PackageId other : universe_.replacers_of(id))
      if (will_be(other)) return {WhyKind::ReplacedBy, std::string(universe_.name(other)), ""};
    if (request_.drop_strays && is_stray(id)) return {WhyKind::Stray, "", ""};
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
    return {WhyKind::Unneeded, "", ""};
  }

  /// Puts steps in the order in which each package comes after what it requires, depth first without recursion.
  void sort(std::vector<Step>& steps) const {
    constexpr std::uint32_t kNone = 0;
    std::vector<std::uint32_t> number(steps.empty() ? 0 : universe_.size(), kNone);  // of its step, from 1
    const auto id_of = [](const Step& step) { return step.after_id ? *step.after_id : *step.before_id; };
    for (std::uint32_t i = 0; i < steps.size(); ++i) number[index_of(id_of(steps[i]))] = i + 1;
    std::vector<Step> sorted;
    sorted.reserve(steps.size());
    std::vector<std::uint8_t> entered(steps.size(), 0);
    std::vector<std::pair<std::uint32_t, bool>> stack;
    for (std::uint32_t start = 0; start < steps.size(); ++start) {
      stack.emplace_back(start, false);
      while (!stack.empty()) {
        const auto [at, finished] = stack.back();
        stack.pop_back();
        if (finished) {
          sorted.push_back(std::move(steps[at]));
          continue;
        }
        if (std::exchange(entered[at], 1) != 0) continue;
        stack.emplace_back(at, true);
        for (const RelationId relation : universe_.relations(id_of(steps[at]), RelationList::Requires))
          for (const PackageId other : universe_.matching(relation))
            if (const std::uint32_t its = number[index_of(other)]; its != kNone && entered[its - 1] == 0)
              stack.emplace_back(its - 1, false);
      }
    }
    HAMBREL_ASSERT(sorted.size() == steps.size(), "each step has its turn");
    steps = std::move(sorted);
  }

  void list_unneeded() {
    if (going_.empty()) return;  // what only comes leaves nothing unneeded
    std::set<PackageId> wanted;
    for (const PackageId id : chosen_)
      if ((was(id) && (universe_.wanted(id) || universe_.is_protected(id))) ||
          (!was(id) && reason_after(id, predecessor(id)) == Reason::Wanted) || asked_for(id))
        wanted.insert(id);
    for (const PackageId id : solve::unneeded(universe_, chosen_, wanted))
      plan_.unneeded.emplace_back(universe_.name(id));
  }

  const Universe& universe_;
  const solve::Request& request_;
  const std::vector<PackageId>& chosen_;
  const Circumstances& circumstances_;
  std::vector<std::uint8_t> in_;
  std::vector<PackageId> coming_, going_;
  std::set<PackageId> asked_, succeeded_;
  std::map<PackageId, PackageId> predecessors_, replaced_;  // of what comes: what it takes the place of
  Callers required_, recommended_;                          // what comes: who calls for it
  bool callers_found_ = false;
  Plan plan_;
};

}  // namespace

CheckedPlan make_checked_plan(const Universe& universe, const solve::Request& request,
                              const solve::Selection& selection, const Circumstances& circumstances) {
  Planner planner(universe, request, selection, circumstances);
  std::vector<HeldBack> held_back = planner.held_back();
  // of a large upgrade, the reasons take as long as the rest
  const auto explain = [&] { explain_held_back(universe, selection, held_back); };
  auto explained = held_back.size() > kFewHeldBack ? aside(explain) : later(explain);
  const auto check = [&] { return problems_of(universe, request, selection); };
  auto checked = !explained.has_thread() && planner.most_steps() > kFewSteps ? aside(check) : later(check);
  CheckedPlan result;
  Plan& plan = result.plan;
  plan = planner.run();
  plan.kind = circumstances.kind;
  plan.proved = selection.proved;
  result.problems = checked.get();
  if (!leads_to(universe, plan, selection.chosen))
    result.problems.emplace_back("the steps do not lead to what was chosen");
  std::optional<Plan::WithoutStrays> without_strays;
  if (circumstances.weigh_strays && !held_back.empty()) without_strays = circumstances.weigh_strays();
  explained.get();
  plan.held_back = std::move(held_back);
  if (without_strays && without_strays->held_back < plan.held_back.size() && is_stray_named(universe, plan.held_back))
    plan.without_strays = std::move(without_strays);
  return result;
}

Plan make_plan(const Universe& universe, const solve::Request& request, const solve::Selection& selection,
               const Circumstances& circumstances) {
  return make_checked_plan(universe, request, selection, circumstances).plan;
}

Plan::WithoutStrays weigh(const Universe& universe, const solve::Request& request, const solve::Selection& selection) {
  std::vector<std::uint8_t> there(universe.size(), 0);
  for (const PackageId id : selection.chosen) there[index_of(id)] = 1;
  Plan::WithoutStrays result;
  for (const PackageId id : universe.installed()) {
    const auto versions = universe.slot(id);
    const auto instead = universe.replacers_of(id);
    const auto stays = [&](PackageId one) { return there[index_of(one)] != 0; };
    const bool dropped = universe.wanted(id) && std::none_of(versions.begin(), versions.end(), stays) &&
                         std::none_of(instead.begin(), instead.end(), stays);
    if (dropped)
      result.dropped.emplace_back(universe.name(id));
    else if (request.upgrades(universe, id) && left_behind(universe, id, stays))
      ++result.held_back;
  }
  return result;
}

}  // namespace hambrel::plan
