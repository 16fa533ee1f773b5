#include "plan/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "solve/solver.h"

namespace hambrel::plan {

std::string_view text_of(Action action) {
  switch (action) {
    case Action::Install: return "install";
    case Action::Upgrade: return "upgrade";
    case Action::Downgrade: return "downgrade";
    case Action::Remove: return "remove";
    case Action::Want: return "want";
    case Action::Unwant: return "unwant";
  }
  return "";
}

std::string Why::text() const {
  switch (kind) {
    case WhyKind::Asked: return "asked for";
    case WhyKind::Required: return fmt::format("{} requires {}", by, relation);
    case WhyKind::Recommended: return fmt::format("{} recommends {}", by, relation);
    case WhyKind::Newer: return "newer version";
    case WhyKind::Replacing: return fmt::format("takes over for {}", by);
    case WhyKind::ReplacedBy: return fmt::format("{} takes over", by);
    case WhyKind::LosesProvider: return fmt::format("requires {}, which goes", relation);
    case WhyKind::InConflict: return fmt::format("conflicts with {}", by);
    case WhyKind::Unneeded: return "nothing wanted needs it any more";
    case WhyKind::Undone: return fmt::format("takes back transaction {}", by);
  }
  return {};
}

std::string Notice::text() const {
  switch (kind) {
    case Kind::ConfigKept: return fmt::format("/{} was edited: your version stays", path);
    case Kind::ConfigWaiting:
      return fmt::format("/{} was edited: your version stays, the new one waits in /var/lib/hambrel/configs/waiting",
                         path);
    case Kind::ConfigStaysAway: return fmt::format("/{} was deleted by hand: it stays away", path);
    case Kind::Leftover: return fmt::format("/{} was edited: it stays as a leftover of {}", path, package);
    case Kind::Unowned:
      return fmt::format("/{} belongs to no package: it goes to the attic, {} brings its own", path, package);
    case Kind::DirectoryStays: return fmt::format("/{} stays: it holds files that belong to no package", path);
    case Kind::Changed: return fmt::format("/{} was changed since: that version goes to the attic", path);
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
          const std::set<PackageId>& cached)
      : universe_(universe),
        request_(request),
        chosen_(selection.chosen.begin(), selection.chosen.end()),
        cached_(cached) {
    for (const PackageId id : selection.chosen) by_name_[universe.package(id).name] = id;
  }

  Plan run() {
    for (const PackageId id : chosen_) add(id);
    std::vector<Step> removals;
    for (const PackageId id : universe_.installed())
      if (!by_name_.contains(universe_.package(id).name)) removals.push_back(removal(id));
    std::stable_sort(removals.begin(), removals.end(),
                     [&](const Step& a, const Step& b) { return order(a) < order(b); });
    std::reverse(removals.begin(), removals.end());
    std::stable_sort(plan_.steps.begin(), plan_.steps.end(),
                     [&](const Step& a, const Step& b) { return order(a) < order(b); });
    plan_.steps.insert(plan_.steps.end(), removals.begin(), removals.end());
    list_unneeded();
    list_held_back();
    return std::move(plan_);
  }

 private:
  bool asked_for(PackageId id) const {
    return std::any_of(request_.install.begin(), request_.install.end(), [&](const solve::Target& target) {
      return std::find(target.candidates.begin(), target.candidates.end(), id) != target.candidates.end();
    });
  }

  static bool replaces(const Package& package, const Package& old) {
    return package.name != old.name &&
           std::any_of(package.replaces.begin(), package.replaces.end(),
                       [&](const Constraint& one) { return one.name == old.name && one.allows(old.version); });
  }

  std::optional<PackageId> replaced_by(PackageId id) const {  // an installed one that goes because this comes
    for (const PackageId old : universe_.installed())
      if (!by_name_.contains(universe_.package(old).name) && replaces(universe_.package(id), universe_.package(old)))
        return old;
    return std::nullopt;
  }

  void add(PackageId id) {
    const Package& package = universe_.package(id);
    const auto before = universe_.installed_of(package.name);
    const Candidate& candidate = universe_[id];
    Step step;
    step.name = package.name, step.arch = package.arch;
    step.after = package.version.text(), step.after_id = id;
    if (before) step.before = universe_.package(*before).version.text(), step.before_id = before;
    step.reason = reason_after(id, before);
    if (before == id) {
      if (candidate.installed->reason == step.reason) return;
      step.action = step.reason == Reason::Wanted ? Action::Want : Action::Unwant;
      step.origin = candidate.installed->origin;
      plan_.steps.push_back(std::move(step));
      return;
    }
    step.action = !before                                                ? Action::Install
                  : universe_.package(*before).version < package.version ? Action::Upgrade
                                                                         : Action::Downgrade;
    step.why = why(id, before);
    if (!candidate.offers.empty()) {
      step.origin = candidate.offers.front().title();
      if (!cached_.contains(id)) step.download = candidate.offers.front().size;
    }
    step.size_change = static_cast<std::int64_t>(package.installed_size) -
                       (before ? static_cast<std::int64_t>(universe_.package(*before).installed_size) : 0);
    plan_.steps.push_back(std::move(step));
  }

  Reason reason_after(PackageId id, std::optional<PackageId> before) const {
    if (asked_for(id)) return Reason::Wanted;
    if (before) return universe_[*before].installed->reason;
    if (const auto old = replaced_by(id)) return universe_[*old].installed->reason;
    return Reason::PulledIn;
  }

  std::optional<Why> called_for(PackageId id, bool recommends) const {
    const Package& package = universe_.package(id);
    for (const bool changed : {true, false})  // rather something that this plan brings in
      for (const PackageId other : chosen_) {
        if (other == id || changed == universe_[other].installed.has_value()) continue;
        for (const Relation& relation :
             recommends ? universe_.package(other).recommends : universe_.package(other).requires_)
          if (satisfies(package, relation))
            return Why{recommends ? WhyKind::Recommended : WhyKind::Required, universe_.package(other).name,
                       relation.text()};
      }
    return std::nullopt;
  }

  Why why(PackageId id, std::optional<PackageId> before) const {
    const std::string& name = universe_.package(id).name;
    if (asked_for(id)) return {WhyKind::Asked, "", ""};
    if (const auto old = replaced_by(id)) return {WhyKind::Replacing, universe_.package(*old).name, ""};
    if (before && (request_.upgrade_all || request_.upgrade.contains(name))) return {WhyKind::Newer, "", ""};
    if (auto required = called_for(id, false)) return *required;
    if (auto recommended = called_for(id, true)) return *recommended;
    return {before ? WhyKind::Newer : WhyKind::Asked, "", ""};
  }

  Step removal(PackageId id) const {
    const Package& package = universe_.package(id);
    Step step;
    step.action = Action::Remove;
    step.name = package.name, step.arch = package.arch, step.before = package.version.text(), step.before_id = id;
    step.origin = universe_[id].installed->origin;
    step.reason = universe_[id].installed->reason;
    step.size_change = -static_cast<std::int64_t>(package.installed_size);
    step.why = why_removed(id);
    return step;
  }

  Why why_removed(PackageId id) const {
    const Package& package = universe_.package(id);
    if (request_.remove.contains(package.name)) return {WhyKind::Asked, "", ""};
    for (const PackageId other : chosen_)
      if (replaces(universe_.package(other), package)) return {WhyKind::ReplacedBy, universe_.package(other).name, ""};
    for (const PackageId other : chosen_) {
      const Package& stays = universe_.package(other);
      const auto against = [](const Package& one, const Package& two) {
        return std::any_of(one.conflicts.begin(), one.conflicts.end(),
                           [&](const Constraint& c) { return satisfies(two, c); });
      };
      if (against(stays, package) || against(package, stays)) return {WhyKind::InConflict, stays.name, ""};
    }
    for (const Relation& relation : package.requires_)
      if (std::none_of(chosen_.begin(), chosen_.end(),
                       [&](PackageId other) { return satisfies(universe_.package(other), relation); }))
        return {WhyKind::LosesProvider, "", relation.text()};
    return {WhyKind::Unneeded, "", ""};
  }

  /// Place of a package when each comes after what it requires; computed once, depth first without recursion.
  std::size_t order(const Step& step) {
    if (places_.empty()) {
      std::set<PackageId> all = chosen_;
      for (const PackageId id : universe_.installed()) all.insert(id);
      for (const PackageId start : all) visit(start, all);
    }
    return places_.at(step.after_id ? *step.after_id : *step.before_id);
  }

  void visit(PackageId start, const std::set<PackageId>& all) {
    std::vector<std::pair<PackageId, bool>> stack{{start, false}};
    std::set<PackageId>& entered = entered_;
    while (!stack.empty()) {
      const auto [id, finished] = stack.back();
      stack.pop_back();
      if (finished) {
        places_.emplace(id, places_.size());
        continue;
      }
      if (!entered.insert(id).second) continue;
      stack.emplace_back(id, true);
      for (const Relation& relation : universe_.package(id).requires_)
        for (const PackageId other : universe_.matching(relation))
          if (all.contains(other)) stack.emplace_back(other, false);
    }
  }

  void list_unneeded() {
    std::set<PackageId> wanted;
    for (const PackageId id : chosen_)
      if (reason_after(id, universe_.installed_of(universe_.package(id).name)) == Reason::Wanted) wanted.insert(id);
    for (const PackageId id : solve::unneeded(universe_, {chosen_.begin(), chosen_.end()}, wanted))
      plan_.unneeded.push_back(universe_.package(id).name);
  }

  void list_held_back() {
    if (!request_.upgrade_all && request_.upgrade.empty()) return;
    for (const PackageId id : universe_.installed()) {
      const Package& package = universe_.package(id);
      if (request_.except.contains(package.name) || (!request_.upgrade_all && !request_.upgrade.contains(package.name)))
        continue;
      const auto offered = universe_.newer_offer(id);
      const auto then = by_name_.find(package.name);
      if (!offered || then == by_name_.end() ||
          universe_.package(then->second).version >= universe_.package(*offered).version)
        continue;
      plan_.held_back.push_back(
          {package.name, universe_.package(then->second).version.text(), universe_.package(*offered).version.text()});
    }
  }

  const Universe& universe_;
  const solve::Request& request_;
  std::set<PackageId> chosen_;
  const std::set<PackageId>& cached_;
  std::map<std::string, PackageId> by_name_;
  std::map<PackageId, std::size_t> places_;
  std::set<PackageId> entered_;
  Plan plan_;
};

}  // namespace

Plan make_plan(const Universe& universe, const solve::Request& request, const solve::Selection& selection,
               const std::set<PackageId>& cached) {
  return Planner(universe, request, selection, cached).run();
}

}  // namespace hambrel::plan
