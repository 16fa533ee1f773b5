#include "operations/change.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/amounts.h"
#include "base/text.h"
#include "operations/change_proposal.h"
#include "operations/protection.h"
#include "os/host.h"
#include "repo/download_piece.h"

namespace hambrel::operations {

namespace {

/// What an administrator may want to know of the search.
std::string measured(const Universe& universe, const solve::Selection& selection) {
  std::uint64_t behind = 0;
  for (const solve::LevelValue& one : selection.levels)
    if (one.level == solve::Level::NotNewest) behind = one.value;
  return fmt::format("chosen from {} package versions in {} steps; {} not at their newest version", universe.size(),
                     selection.steps, count_text(behind, "package", "packages"));
}

/// What of the root bears on the plan of packages alone.
class Surroundings {
 public:
  Surroundings(Root& root, const ChangeRequest& request, const solve::Selection& selection)
      : root_(root), request_(request) {
    any_cached_ = root_.files().stat(repo::kPackageCache).has_value();
    if (root_.state() != nullptr) shelved_ = root_.state()->shelved();
    found_.kind = request.kind;
    found_.keeps_reasons = request.kind == "downgrade" || request.kind == "follow";
    found_.holds_asked = request.hold.has_value();
    for (const PackageId id : selection.chosen)
      if (!root_.universe().is_installed(id)) look_at(id);
    const bool strays_matter = request.solve.upgrade_all && !request.solve.drop_strays && request.weigh_strays;
    if (strays_matter) found_.weigh_strays = [this] { return weigh_strays(); };
  }
  const plan::Circumstances& found() const { return found_; }

 private:
  void look_at(PackageId id) {
    const Universe& universe = root_.universe();
    if (root_.file_reader(id) != nullptr || root_.kept(id) != nullptr) {
      if (!root_.is_to_be_fetched(id)) found_.at_hand.insert(id);
    } else if (any_cached_ && !universe[id].offers.empty()) {
      const Offer& offer = universe[id].offers.front();
      if (repo::in_cache(root_.files(), universe.package(id), offer))
        found_.at_hand.insert(id);
      else if (const ByteCount rest = repo::rest_of(root_.files(), universe.package(id), offer); rest > 0)
        found_.partly.emplace(id, rest);
    }
    look_on_shelf(id);
  }

  /// What comes back from the shelf is what it was. Nothing else may come in its place.
  void look_on_shelf(PackageId id) {
    const Universe& universe = root_.universe();
    const auto one = std::find_if(shelved_.begin(), shelved_.end(), [&](const state::StatePackage& other) {
      return other.package.name == universe.name(id) && other.package.arch == universe.architecture(id);
    });
    if (one == shelved_.end()) return;
    if (const auto* const kept = root_.kept(id); kept == nullptr || kept->row != one->row)
      throw Error(ErrorCode::Refused, fmt::format("{} is shelved", one->package.title()), {},
                  fmt::format("`hambrel unshelve {}` brings it back", one->package.name));
    found_.shelved.emplace(id, one->reason);
  }

  /// Where there are wanted packages that nobody offers any more: what it would bring to let them go.
  std::optional<plan::Plan::WithoutStrays> weigh_strays() const {
    const Universe& universe = root_.universe();
    const auto& installed = universe.installed();
    if (std::none_of(installed.begin(), installed.end(),
                     [&](PackageId id) { return universe.wanted(id) && !universe.is_slot_offered(id); }))
      return std::nullopt;
    solve::Request without = request_.solve;
    without.drop_strays = true;
    const auto answer = solve::solve(universe, without);
    const auto* selection = std::get_if<solve::Selection>(&answer);
    if (selection == nullptr) return std::nullopt;
    return plan::weigh(universe, without, *selection);
  }

  Root& root_;
  const ChangeRequest& request_;
  bool any_cached_ = false;
  std::vector<state::StatePackage> shelved_;
  plan::Circumstances found_;
};

/// The plan of packages alone. It is checked by code that is not the solver's, before anyone sees it.
plan::Plan plan_packages(Root& root, const ChangeRequest& request, const solve::Selection& selection) {
  const Surroundings surroundings(root, request, selection);
  auto [plan, problems] = plan::make_checked_plan(root.universe(), request.solve, selection, surroundings.found());
  if (problems.empty()) return std::move(plan);
  throw Error(ErrorCode::Internal, "the plan is wrong: " + problems.front(), {},
              "nothing was changed; please report this with the output of `hambrel list`");
}

using Keys = std::vector<std::vector<std::string>>;  // by target: name, version and architecture of each candidate

std::string key_of(Root& root, PackageId id) {
  const Candidate& one = root.universe()[id];
  return fmt::format("{} {} {}", one.package.title(), one.package.arch,
                     one.offers.empty() ? "" : one.offers.front().digest.hex());
}

Keys keys_of(Root& root, const solve::Request& request) {
  Keys keys;
  for (const solve::Target& target : request.install) {
    keys.emplace_back();
    for (const PackageId id : target.candidates) keys.back().push_back(key_of(root, id));
  }
  return keys;
}

/// Numbers of packages are of one universe: in another one they are looked for by what they are.
void restore_candidates(Root& root, solve::Request& request, const Keys& keys) {
  for (std::size_t i = 0; i < request.install.size(); ++i) {
    std::vector<PackageId> found;
    for (const std::string& key : keys[i])
      for (const PackageId id : root.universe().versions_of(key.substr(0, key.find(' '))))
        if (key_of(root, id) == key) found.push_back(id);
    if (found.size() != keys[i].size())
      throw Error(ErrorCode::Refused, "the repositories have changed since the remedy was tried", {},
                  "run the command again");
    request.install[i].candidates = found;
  }
}

/// Is nothing new about a hold? A held package may be given another date or reason.
bool is_so(const Universe& universe, const MarkRequest& request, PackageId id) {
  if ((request.action == plan::Action::Hold) != universe.held(id)) return false;
  const auto hold = universe[id].installed->hold;
  if (request.action == plan::Action::Release || !hold) return true;
  const bool same_date = !request.until || hold->until == *request.until;
  const bool same_reason = !request.reason || hold->reason == *request.reason;
  return same_date && same_reason;
}

/// Steps that mark packages, after those that change them: a package that changes is held in its new version.
void add_marks(Root& root, const MarkRequest& request, plan::Plan& plan) {
  const Universe& universe = root.universe();
  const std::string& arch = root.options().architecture;
  const bool about_hold = request.action == plan::Action::Hold || request.action == plan::Action::Release;
  const bool wanted = request.action == plan::Action::Want;
  solve::Names changed;
  for (plan::Step& step : plan.steps) {
    if (!request.names.contains(step.name) || step.only_state()) continue;
    changed.insert(step.name);
    if (step.after.empty())
      throw Error(ErrorCode::Refused, fmt::format("{} cannot be both removed and held or marked", step.name), {},
                  "leave out one of them");
    if (request.action == plan::Action::Hold) step.held = true;
    if (!about_hold) step.reason = wanted ? Reason::Wanted : Reason::PulledIn;
  }
  for (const PackageId id : universe.installed()) {
    if (!request.names.contains(universe.name(id)) || (!arch.empty() && universe.architecture(id) != arch)) continue;
    if (changed.contains(universe.name(id))) continue;
    if (about_hold ? is_so(universe, request, id) : wanted == universe.wanted(id)) continue;
    const Candidate& one = universe[id];
    plan::Step step;
    step.action = request.action;
    step.name = one.package.name;
    step.arch = one.package.arch;
    step.before = step.after = one.package.version.text();
    step.before_id = step.after_id = id;
    step.origin = one.installed->origin;
    step.reason = one.installed->reason;
    if (!about_hold) step.reason = wanted ? Reason::Wanted : Reason::PulledIn;
    plan.steps.push_back(std::move(step));
  }
}

}  // namespace

namespace {

constexpr std::size_t kEachInstalled = 2500;  // bytes that an upgrade takes for each installed package

using Solved = std::variant<solve::Selection, Refused>;

Solved solve_for(Root& root, ChangeRequest& request) {
  request.solve.budget = request.seconds.value_or(root.settings().budget) * solve::kStepsPerSecond;
  if (request.solve.arch.empty()) request.solve.arch = root.options().architecture;
  root.observer().begin("planning", 0, Observer::Unit::Items);
  const EndOfProgress end(root.observer());
  if (request.solve.upgrade_all) os::expect_memory(kEachInstalled * root.universe().installed().size());
  auto answer = solve::solve(root.universe(), request.solve);
  if (auto* const selection = std::get_if<solve::Selection>(&answer)) return std::move(*selection);
  auto& refusal = std::get<solve::Refusal>(answer);
  if (refusal.decided) return Refused{std::move(refusal), std::move(request)};
  throw Error(ErrorCode::Undecided, refusal.what, {},
              "nothing was changed; request less at once, or raise `budget` (seconds) in hambrel.toml");
}

}  // namespace

namespace {

/// Nothing has to be searched for.
std::unique_ptr<Proposal> follow_only(Root& root, ChangeRequest request) {
  plan::Plan plan;
  plan.kind = request.kind;
  for (const state::FollowChange& one : request.follows) plan.follows.push_back({one.name, one.before, one.after});
  return change_proposal(root, std::move(request), std::move(plan));
}

}  // namespace

Proposed propose(Root& root, ChangeRequest request) {
  require_allowed(root, request.solve.remove, request.solve.allow_essential, "remove");
  if (request.kind == "follow" && request.solve.install.empty()) return {follow_only(root, std::move(request)), ""};
  Solved solved = solve_for(root, request);
  if (auto* const refused = std::get_if<Refused>(&solved)) return {std::move(*refused), ""};
  const auto& selection = std::get<solve::Selection>(solved);
  plan::Plan plan = plan_packages(root, request, selection);
  for (const MarkRequest& mark : request.marks) add_marks(root, mark, plan);
  for (const state::FollowChange& one : request.follows) plan.follows.push_back({one.name, one.before, one.after});
  std::string told = measured(root.universe(), selection);
  return {change_proposal(root, std::move(request), std::move(plan)), std::move(told)};
}

std::variant<std::vector<PackageId>, Refused> choose(Root& root, ChangeRequest request) {
  Solved solved = solve_for(root, request);
  if (auto* const refused = std::get_if<Refused>(&solved)) return std::move(*refused);
  return std::move(std::get<solve::Selection>(solved).chosen);
}

plan::WaysOut remedies_for(Root& root, const Refused& refused) {
  return plan::remedies_for(root.universe(), refused.request.solve, refused.refusal);
}

ChangeRequest take(Root& root, const Refused& refused, const plan::Remedy& remedy) {
  ChangeRequest request = refused.request;
  request.kind = refused.request.kind == "downgrade" ? "downgrade" : "change";
  request.solve = remedy.request;
  if (remedy.enable.empty()) return request;
  const Keys before = keys_of(root, request.solve);
  root.see_enabled(remedy.enable);
  restore_candidates(root, request.solve, before);
  request.enables = remedy.enable;
  return request;
}

std::unique_ptr<Proposal> propose(Root& root, const MarkRequest& request) {
  plan::Plan plan;
  plan.kind = plan::text_of(request.action);
  add_marks(root, request, plan);
  ChangeRequest change;
  change.kind = plan.kind;
  change.end = request.end;
  change.marks.push_back(request);
  return change_proposal(root, std::move(change), std::move(plan));
}

}  // namespace hambrel::operations
