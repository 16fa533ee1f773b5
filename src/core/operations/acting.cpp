#include "operations/acting.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/error.h"
#include "base/text.h"
#include "operations/questions.h"
#include "operations/services.h"
#include "txn/links.h"

namespace hambrel::operations {

using rehearsal::Party;
using rehearsal::Staying;

namespace {

/// Texts of the lists and of what is planned.
struct Changed {
  rehearsal::ChangedPaths paths;
  std::vector<std::shared_ptr<const FileList>> lists;
};

Changed changed_by(Root& root, const txn::Planned& planned) {
  Changed changed;
  for (const txn::Put& put : planned.tree.puts) changed.paths.add(put.entry.path());
  for (const txn::PlannedMove& move : planned.tree.moves)
    if (move.kind == state::MoveKind::Remove || move.kind == state::MoveKind::Attributes) changed.paths.add(move.path);
  for (const state::Move& move : planned.moves) changed.paths.add(move.path);
  // a directory of an attic is moved with all that is in it
  if (!planned.moves.empty())
    for (const state::PackageChange& change : planned.changes)
      for (const auto& row : {change.before_row, change.after_row}) {
        if (!row || change.before_row == change.after_row) continue;
        changed.lists.push_back(root.state()->files_of(*row));
        for (std::size_t i = 0; i < changed.lists.back()->size(); ++i) changed.paths.add(changed.lists.back()->path(i));
      }
  changed.paths.sort();
  return changed;
}

bool acts(const SharedActions& actions) {
  return actions != nullptr && !(actions->hooks.empty() && actions->triggers.empty());
}

/// What a transaction that is taken back had run is taken back with it, unless it was run again since.
bool is_restored(const txn::Planned& planned, const rehearsal::Run& run) {
  return planned.restores_all || planned.restored.contains({run.shown.package, run.program_text()});
}

/// Those that there are after a change.
txn::Candidates candidates_then(Root& root, const std::vector<Party>& parties, const std::set<std::int64_t>& leaving) {
  txn::Candidates all;
  if (root.state() != nullptr)
    for (const state::StatePackage& one : root.state()->acting())
      if (!leaving.contains(one.row)) txn::add_candidates(all, one.package.name, *one.package.actions);
  for (const Party& one : parties)
    if (one.is != nullptr && !one.after.empty()) txn::add_candidates(all, one.name, *one.is);
  return all;
}

bool concern_candidates(const std::vector<Party>& parties) {
  const auto some = [](const SharedActions& actions) { return actions != nullptr && !actions->candidates.empty(); };
  return std::any_of(parties.begin(), parties.end(), [&](const Party& one) { return some(one.is) || some(one.was); });
}

/// Links to candidates, as they are for what will be installed then.
void add_links(Root& root, txn::Planned& planned, const std::vector<Party>& parties,
               const std::set<std::int64_t>& leaving) {
  if (planned.restores_all) {  // they come back as they were
    for (const state::GeneratedChange& one : planned.generated)
      if (const auto& made = one.after ? one.after : one.before;
          made->program == state::kCandidates && made->entry.type == EntryType::Symlink) {
        const auto file = [&](const std::optional<state::Generated>& side) {
          return side ? os::host_path(fmt::format("/{}/{}", os::parent_of(one.path), side->entry.target)) : "";
        };
        planned.plan.links.push_back({one.path, file(one.before), file(one.after), made->package, false, ""});
      }
    return;
  }
  const txn::Candidates all = candidates_then(root, parties, leaving);
  if (all.empty() && !concern_candidates(parties)) return;
  const state::State none;
  txn::plan_links(root.files(), root.state() != nullptr ? *root.state() : none, all, planned);
}

/// Those that are due whatever changes.
void add_due(txn::Planned& planned, const std::vector<Staying>& staying) {
  if (planned.due.empty()) return;
  for (const Staying& one : staying)
    for (rehearsal::Run& run : rehearsal::runs_of(one.name, one.version, *one.actions)) {
      const auto found = std::find_if(planned.due.begin(), planned.due.end(), [&](const txn::Planned::Due& due) {
        return due.package == run.shown.package && due.program == run.program_text() &&
               due.occasion == run.shown.occasion;
      });
      if (found == planned.due.end()) continue;
      run.shown.why = found->why;
      auto& list = run.is_trigger() ? planned.runs.triggers : planned.runs.hooks;
      const auto same = [&](const rehearsal::Run& known) { return known.same_as(run); };
      if (std::none_of(list.begin(), list.end(), same)) list.push_back(std::move(run));
    }
}

}  // namespace

namespace {

/// By hambrel.toml, and by the file of the repository that a package comes from.
void require_allowed_programs(Root& root, const plan::Plan& plan, const std::vector<Party>& parties,
                              const std::vector<Staying>& staying) {
  std::map<std::string, std::string> origins;
  for (const Staying& one : staying) origins.emplace(one.name, one.origin);
  for (const Party& one : parties) origins.insert_or_assign(one.name, one.origin);
  for (const plan::Run& run : plan.runs) {
    const auto refuse = [&](const std::string& who) {
      throw Error(ErrorCode::Refused,
                  fmt::format("{} would run {}, and {} allows no programs of packages", run.package, run.program, who),
                  {}, "--without-hooks leaves it out, and `hambrel verify` lists it then");
    };
    if (!root.settings().hooks.allowed) refuse("hambrel.toml");
    const std::string origin = origins[run.package], repository = origin.substr(0, origin.find('/'));
    for (const settings::Repository& one : root.repositories())
      if (one.name == repository && !one.hooks_allowed) refuse(fmt::format("the file of repository {}", one.name));
  }
}

}  // namespace

std::vector<std::string> links_that_go(Root& root, const std::vector<Party>& parties,
                                       const std::set<std::int64_t>& leaving) {
  if (root.state() == nullptr || !concern_candidates(parties)) return {};
  return txn::links_without(*root.state(), candidates_then(root, parties, leaving));
}

void add_runs(Root& root, txn::Planned& planned, const std::vector<Party>& parties,
              const std::set<std::int64_t>& leaving, const ActingTerms& terms) {
  add_links(root, planned, parties, leaving);
  add_services(root, planned, parties, terms);
  std::vector<Staying> staying;
  if (root.state() != nullptr)
    for (const state::StatePackage& one : root.state()->acting())
      if (!leaving.contains(one.row) && acts(one.package.actions))
        staying.push_back({one.package.name, one.package.version.text(), one.origin, one.package.actions});
  const bool some =
      std::any_of(parties.begin(), parties.end(), [](const Party& one) { return acts(one.was) || acts(one.is); });
  if (staying.empty() && !some) return;
  const Changed changed = changed_by(root, planned);
  planned.runs = rehearsal::plan_runs(parties, staying, changed.paths, !planned.undo_of);
  if (planned.restores_data) {
    planned.runs.hooks.clear();
    planned.runs.before.clear();
  }
  if (planned.undo_of)
    std::erase_if(planned.runs.triggers, [&](const rehearsal::Run& run) { return is_restored(planned, run); });
  add_due(planned, staying);
  add_answers(root, planned, parties, terms);
  planned.terms.leave_out = terms.without_hooks;
  const settings::HookRules& rules = root.settings().hooks;
  planned.terms.limits.seconds = rules.seconds;
  planned.terms.limits.memory = rules.memory_mebibytes << 20U;
  planned.terms.limits.disk = rules.mebibytes << 20U;
  planned.terms.discard_undeclared = rules.discard_undeclared;
  planned.plan.runs = planned.runs.shown();
  for (plan::Run& run : planned.plan.runs) run.left_out = terms.without_hooks;
  if (!terms.without_hooks) require_allowed_programs(root, planned.plan, parties, staying);
}

void add_runs(Root& root, txn::Planned& planned, const ActingTerms& terms) {
  std::vector<Party> parties;
  std::set<std::int64_t> leaving;
  for (const state::PackageChange& change : planned.changes) {
    const auto here = [](const std::optional<state::StatePackage>& side) { return side && !side->shelved; };
    const bool was = here(change.before), is = here(change.after);
    if (change.before_row == change.after_row && was == is) continue;
    if (was && change.before_row) leaving.insert(*change.before_row);
    Party& party = parties.emplace_back();
    party.name = change.name;
    if (was) {
      party.before = change.before->package.version.text();
      party.was = change.before->package.actions;
    }
    if (is) {
      party.after = change.after->package.version.text();
      party.is = change.after->package.actions;
    }
    party.downgrades = was && is && change.after->package.version < change.before->package.version;
    party.only_files = change.before_row == change.after_row;
    party.origin = change.after ? change.after->origin : change.before->origin;
  }
  add_runs(root, planned, parties, leaving, terms);
}

}  // namespace hambrel::operations
