#include "rehearsal/runs.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace hambrel::rehearsal {

namespace {

/// What stands before the first wildcard.
std::string_view plain_beginning(std::string_view glob) { return glob.substr(0, glob.find_first_of("*?")); }

std::vector<std::string> environment_of(const std::string& package, std::string_view action, const std::string& before,
                                        const std::string& after) {
  return {"PATH=/usr/sbin:/usr/bin:/sbin:/bin",
          "HOME=/",
          "LANG=C.UTF-8",
          "TERM=dumb",
          "HAMBREL_PACKAGE=" + package,
          fmt::format("HAMBREL_ACTION={}", action),
          "HAMBREL_OLD_VERSION=" + before,
          "HAMBREL_NEW_VERSION=" + after};
}

Run run_of(const Party& party, HookMoment moment, const Hook& hook, bool first_hooks) {
  Run run;
  run.shown.kind = plan::Run::Kind::Hook;
  run.shown.package = party.name;
  run.shown.program = hook.program.text();
  run.shown.occasion = text_of(moment);
  run.shown.before = hook.before;
  run.shown.is_new = first_hooks;
  run.shown.writes = hook.writes;
  run.program = hook.program;
  run.environment = environment_of(party.name, text_of(moment), party.before, party.after);
  return run;
}

Run run_of(const std::string& package, const std::string& version, const Trigger& trigger) {
  Run run;
  run.shown.kind = plan::Run::Kind::Trigger;
  run.shown.package = package;
  run.shown.program = trigger.program.text();
  run.shown.occasion = "trigger";
  run.shown.writes = trigger.writes;
  run.program = trigger.program;
  run.watches = trigger.watches;
  run.environment = environment_of(package, "trigger", version, version);
  return run;
}

std::string told(const ChangedPaths::Match& match) {
  return fmt::format("/{} {}", match.path, match.several ? "and others change" : "changes");
}

/// Does a package bring a trigger that was not there just so?
bool is_new(const Party& party, const Trigger& trigger) {
  if (party.was == nullptr) return true;
  return std::find(party.was->triggers.begin(), party.was->triggers.end(), trigger) == party.was->triggers.end();
}

void add(std::vector<Run>& runs, Run run) {
  if (std::none_of(runs.begin(), runs.end(), [&](const Run& known) { return known.same_as(run); }))
    runs.push_back(std::move(run));
}

}  // namespace

HookMoment Party::moment() const {
  if (before.empty()) return HookMoment::Install;
  if (after.empty()) return HookMoment::Remove;
  return downgrades ? HookMoment::Downgrade : HookMoment::Upgrade;
}

void ChangedPaths::sort() {
  if (!std::is_sorted(paths_.begin(), paths_.end())) std::sort(paths_.begin(), paths_.end());
}

std::optional<ChangedPaths::Match> ChangedPaths::match(const std::vector<std::string>& globs) const {
  std::optional<Match> found;
  for (const std::string& glob : globs) {
    const std::string_view beginning = plain_beginning(glob);
    auto one = std::lower_bound(paths_.begin(), paths_.end(), beginning);
    for (; one != paths_.end() && one->starts_with(beginning); ++one) {
      if ((found && found->path == *one) || !path_glob_match(glob, *one)) continue;
      if (found) {
        found->several = true;
        return found;
      }
      found = Match{*one};
    }
  }
  return found;
}

std::vector<plan::Run> Runs::shown() const {
  std::vector<plan::Run> all;
  for (const auto* const list : {&before, &hooks, &triggers})
    for (const Run& one : *list) all.push_back(one.shown);
  return all;
}

Runs plan_runs(const std::vector<Party>& parties, const std::vector<Staying>& staying, const ChangedPaths& changed,
               bool with_hooks) {
  Runs runs;
  for (const Party& party : parties) {
    const SharedActions& actions = party.after.empty() ? party.was : party.is;
    if (actions == nullptr || !with_hooks || party.only_files) continue;
    const bool first_hooks = !party.before.empty() && (party.was == nullptr || party.was->hooks.empty());
    for (const Hook& hook : actions->hooks)
      if (hook.is_for(party.moment()))
        (hook.before ? runs.before : runs.hooks).push_back(run_of(party, party.moment(), hook, first_hooks));
  }
  std::stable_partition(runs.before.begin(), runs.before.end(),
                        [](const Run& one) { return one.shown.occasion == text_of(HookMoment::Remove); });
  const auto consider = [&](Run run, bool due_anyway) {
    add(runs.watching, run);
    if (const auto match = changed.match(run.watches))
      run.shown.why = told(*match);
    else if (due_anyway)
      run.shown.why = run.shown.package + " adds this trigger";
    else
      return;
    add(runs.triggers, std::move(run));
  };
  for (const Party& party : parties)
    if (party.is != nullptr && !party.after.empty())
      for (const Trigger& trigger : party.is->triggers)
        consider(run_of(party.name, party.after, trigger), with_hooks && is_new(party, trigger));
  for (const Staying& one : staying)
    if (one.actions != nullptr)
      for (const Trigger& trigger : one.actions->triggers) consider(run_of(one.name, one.version, trigger), false);
  return runs;
}

std::vector<Run> runs_of(const std::string& package, const std::string& version, const Actions& actions) {
  std::vector<Run> runs;
  for (const Hook& hook : actions.hooks)
    for (const HookMoment moment : hook.when) runs.push_back(run_of({package, version, version}, moment, hook, false));
  for (const Trigger& trigger : actions.triggers) runs.push_back(run_of(package, version, trigger));
  return runs;
}

bool is_declared(const std::vector<std::string>& writes, std::string_view path, bool new_directory) {
  return std::any_of(writes.begin(), writes.end(), [&](const std::string& glob) {
    if (path_glob_match(glob, path)) return true;
    if (glob.size() == path.size() + 3 && glob.starts_with(path) && glob.ends_with("/**")) return true;
    const std::string_view beginning = plain_beginning(glob);
    return new_directory && beginning.size() > path.size() && beginning.starts_with(path) &&
           beginning[path.size()] == '/';
  });
}

}  // namespace hambrel::rehearsal
