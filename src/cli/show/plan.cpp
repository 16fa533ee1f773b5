#include "cli/show/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/json.h"
#include "base/text.h"

namespace hambrel::cli {

namespace {

using plan::Action;
using plan::Step;

Style style_of(Action action) {
  switch (action) {
    case Action::Install: return Style::Come;
    case Action::Upgrade:
    case Action::Downgrade:
    case Action::Repair:
    case Action::Shelve:
    case Action::Unshelve:
    case Action::Want:
    case Action::Unwant:
    case Action::Hold:
    case Action::Release: return Style::Change;
    case Action::Remove: return Style::Go;
  }
  return Style::Plain;
}

std::string versions_of(const Step& step) {
  if (step.only_state() || step.action == Action::Repair || step.before == step.after) return step.after;
  if (step.before.empty()) return step.after;
  if (step.after.empty()) return step.before;
  return step.before + " -> " + step.after;
}

std::string reason_of(const Step& step) {
  if (step.action == Action::Want || step.action == Action::Unwant)
    return fmt::format("{}: now {}", step.why.text(), text_of(step.reason));
  if (step.action == Action::Hold) return step.why.text() + ": stays in this version";
  return step.why.text() + (step.held ? ", held from now on" : "");
}

std::string counts(const plan::Plan& plan) {
  std::vector<std::string> parts;
  const auto add = [&](Action action, const char* word) {
    if (const std::size_t count = plan.count(action); count > 0) parts.push_back(fmt::format("{} {}", count, word));
  };
  add(Action::Install, "to install");
  add(Action::Upgrade, "to upgrade");
  add(Action::Downgrade, "to downgrade");
  add(Action::Remove, "to remove");
  add(Action::Repair, "to repair");
  add(Action::Shelve, "to shelve");
  add(Action::Unshelve, "to bring back from the shelf");
  add(Action::Want, "wanted from now on");
  add(Action::Unwant, "no longer wanted for itself");
  add(Action::Hold, "to hold");
  add(Action::Release, "to release");
  std::map<plan::ConfigAction, std::size_t> configs;
  for (const plan::ConfigStep& one : plan.configs) ++configs[one.action];
  for (const auto& [action, count] : configs)
    parts.push_back(fmt::format("{} to {}", count_text(count, "configuration file", "configuration files"),
                                action == plan::ConfigAction::Ask ? "ask about" : plan::text_of(action)));
  if (parts.empty()) parts.emplace_back("nothing but what waits to be settled");
  return join(parts, ", ");
}

Style style_of(plan::ConfigAction action) {
  switch (action) {
    case plan::ConfigAction::Purge: return Style::Go;
    case plan::ConfigAction::Wait:
    case plan::ConfigAction::Ask: return Style::Warn;
    case plan::ConfigAction::Keep: return Style::Faint;
    default: return Style::Change;
  }
}

}  // namespace

void print_held_back(const Session& session, const plan::Plan& plan) {
  constexpr std::size_t kMostNames = 6;
  const Screen& screen = session.screen();
  const auto note = [&](const std::string& text) { screen.remark(text); };
  std::vector<std::pair<std::string, std::vector<const plan::HeldBack*>>> groups;  // by reason
  for (const plan::HeldBack& one : plan.held_back) {
    if (one.held) {
      note(fmt::format("{} is held at {}, though {} is on offer{}{}", one.name, one.stays, one.offered,
                       one.why.empty() ? "" : ": ", printable(one.why)));
      continue;
    }
    auto group = std::find_if(groups.begin(), groups.end(), [&](const auto& known) { return known.first == one.why; });
    if (group == groups.end()) group = groups.insert(groups.end(), {one.why, {}});
    group->second.push_back(&one);
  }
  std::stable_sort(groups.begin(), groups.end(),
                   [](const auto& a, const auto& b) { return a.second.size() > b.second.size(); });
  for (const auto& [why, members] : groups) {
    const std::string& first = members.front()->name;
    const std::string reason =
        why.empty()
            ? fmt::format("`{}` says what stands against it",
                          session.copyable(fmt::format("hambrel why '{}>={}'", first, members.front()->offered)))
            : why;
    if (members.size() == 1) {
      note(fmt::format("{} stays at {}, though {} is on offer: {}", first, members.front()->stays,
                       members.front()->offered, reason));
      continue;
    }
    std::vector<std::string> names;
    for (const plan::HeldBack* one : members)
      if (names.size() < kMostNames) names.push_back(one->name);
    note(fmt::format("{} stay behind what is on offer: {}", members.size(), reason));
    screen.line(
        fmt::format("        {}{}", join(names, ", "),
                    members.size() > names.size() ? fmt::format(" and {} more", members.size() - names.size()) : ""));
  }
  if (!plan.without_strays) return;
  const auto& dropped = plan.without_strays->dropped;
  const std::vector<std::string> some(
      dropped.begin(), dropped.begin() + static_cast<std::ptrdiff_t>(std::min(dropped.size(), kMostNames)));
  note(fmt::format("`{}` would leave {} behind instead of {}, and remove {} that no repository offers any more: {}{}",
                   session.copyable("hambrel upgrade --drop-strays"),
                   plan.without_strays->held_back == 0 ? "none" : std::to_string(plan.without_strays->held_back),
                   plan.held_back.size(), count_text(dropped.size(), "wanted package", "wanted packages"),
                   join(some, ", "),
                   dropped.size() > some.size() ? fmt::format(" and {} more", dropped.size() - some.size()) : ""));
}

void print_configs(const Screen& screen, const std::vector<plan::ConfigStep>& configs) {
  Table table;
  for (const plan::ConfigStep& one : configs)
    table.row({{std::string(plan::text_of(one.action)), style_of(one.action)},
               {"/" + printable(one.path), Style::Name},
               {one.package, Style::Faint},
               {printable(one.text())}});
  table.print(screen);
}

void print_plan(const Session& session, const plan::Plan& plan) {
  const Screen& screen = session.screen();
  const std::string& root = session.root_path();
  screen.line(fmt::format("{} {}{}", screen.paint(Style::Strong, "Plan:"), counts(plan),
                          root == "/" ? "" : screen.paint(Style::Faint, "  in " + printable(root))));
  screen.line();
  const auto machine =
      std::find_if(plan.steps.begin(), plan.steps.end(), [](const Step& s) { return s.arch != "any"; });
  const bool several = std::any_of(plan.steps.begin(), plan.steps.end(),
                                   [&](const Step& step) { return step.arch != "any" && step.arch != machine->arch; });
  Table table;
  for (const Action action :
       {Action::Remove, Action::Downgrade, Action::Upgrade, Action::Install, Action::Repair, Action::Shelve,
        Action::Unshelve, Action::Want, Action::Unwant, Action::Hold, Action::Release})
    for (const bool asked : {true, false})  // what was asked for, then what that brings along
      for (const Step& step : plan.steps)
        if (step.action == action && asked == (step.why.kind == plan::WhyKind::Asked))
          table.row({{std::string(text_of(action)), style_of(action)},
                     {step.name, Style::Name},
                     {versions_of(step)},
                     {several ? step.arch : "", Style::Faint},
                     {reason_of(step)},
                     {step.origin, Style::Faint},
                     {change_text(step.size_change), Style::Plain, true}});
  table.print(screen);
  if (!plan.steps.empty()) screen.line();
  if (!plan.configs.empty()) {
    print_configs(screen, plan.configs);
    screen.line();
  }
  for (const plan::Notice& notice : plan.notices) screen.remark(printable(notice.text()));
  print_held_back(session, plan);
  if (!plan.proved)
    screen.remark("feasible, and the best that was found in the time allowed; that there is no better was not proved");
  if (!plan.unneeded.empty()) screen.remark("nothing wanted needs these any more: " + join(plan.unneeded, ", "));
  if (!plan.notices.empty() || !plan.held_back.empty() || !plan.unneeded.empty() || !plan.proved) screen.line();
  if (plan.steps.empty()) return screen.line("  No package changes; what is replaced goes to the attic.");
  if (!plan.steps.empty() &&
      std::all_of(plan.steps.begin(), plan.steps.end(), [](const Step& step) { return step.only_state(); })) {
    screen.line("  No file changes.");
    return;
  }
  if (plan.kind == "shelve")
    return screen.line("  The files go to the attic and wait there; configuration stays where it is.");
  const bool only_damage =
      std::all_of(plan.steps.begin(), plan.steps.end(), [](const Step& step) { return step.action == Action::Repair; });
  if (plan.kind == "repair" && only_damage && plan.download() == 0)
    return screen.line("  Only what is damaged is touched; nothing to fetch.");
  const auto files = static_cast<std::size_t>(
      std::count_if(plan.steps.begin(), plan.steps.end(), [](const Step& step) { return step.download > 0; }));
  const std::string fetch =
      files == 0 ? "Nothing to fetch"
                 : fmt::format("Fetches {} in {}", size_text(plan.download()), count_text(files, "file", "files"));
  screen.line(fmt::format("  {}, changes disk use by {}.", fetch, change_text(plan.size_change())));
}

namespace {

void print_refusal_json(const Session& session, const solve::Refusal& refusal, const Universe& universe,
                        const std::vector<plan::Remedy>& remedies) {
  Json causes = Json::array(), ways = Json::array();
  for (const solve::Cause& cause : refusal.causes) causes.push_back(cause.text(universe));
  for (const plan::Remedy& remedy : remedies)
    ways.push_back(
        {{"command", session.copyable(remedy.command())}, {"price", remedy.price()}, {"plan", to_json(remedy.plan)}});
  session.screen().line(
      canonical({{"refused", refusal.what}, {"causes", std::move(causes)}, {"remedies", std::move(ways)}}));
}

}  // namespace

std::vector<plan::Remedy> print_refusal(Session& session, const operations::Refused& refused) {
  const Screen& screen = session.screen();
  const Universe& universe = session.universe();
  const solve::Refusal& refusal = refused.refusal;
  if (!session.json()) {
    screen.note(fmt::format("{} {}:", screen.paint_error(Style::Warn, "Refused:"), refusal.what));
    for (const solve::Cause& cause : refusal.causes) screen.note("  " + printable(cause.text(universe)));
  }
  auto remedies = operations::remedies_for(session.root(), refused);
  if (session.json()) {
    print_refusal_json(session, refusal, universe, remedies);
    return remedies;
  }
  if (!remedies.empty()) screen.note(remedies.size() == 1 ? "\nA way out, tried:" : "\nWays out, each tried:");
  for (std::size_t i = 0; i < remedies.size(); ++i) {
    screen.note(fmt::format("  {}  {}", screen.paint_error(Style::Strong, std::to_string(i + 1)),
                            screen.paint_error(Style::Come, session.copyable(remedies[i].command()))));
    screen.note(fmt::format("     {}; changes disk use by {}", remedies[i].price(),
                            change_text(remedies[i].plan.size_change())));
  }
  return remedies;
}

std::optional<std::size_t> choose_remedy(const Session& session, const Arguments& arguments,
                                         const std::vector<plan::Remedy>& remedies) {
  const bool may_ask = !session.json() && !arguments.has("yes") && !arguments.has("dry-run") && can_ask();
  if (remedies.empty() || !may_ask) return std::nullopt;
  session.screen().line();
  const auto number = parse_number(ask(session.screen(), "Take one of them?", "its number, or no").value_or(""));
  if (!number || *number == 0 || *number > remedies.size()) return std::nullopt;
  session.screen().line();
  return *number - 1;
}

bool is_consent_possible(const Session& session, const Arguments& arguments) {
  return arguments.has("yes") || arguments.has("dry-run") || (!session.json() && can_ask());
}

void require_consent_possible(const Session& session, const Arguments& arguments) {
  if (is_consent_possible(session, arguments)) return;
  throw Error(ErrorCode::Declined, session.json() ? "with --json nothing is asked" : "there is no terminal to ask on",
              {}, "add --yes to carry the plan out, or --dry-run to see it");
}

void ask_consent(const Session& session, const Arguments& arguments) {
  require_consent_possible(session, arguments);
  if (arguments.has("yes")) return;
  session.screen().line();
  const std::string word = lower(ask(session.screen(), "Carry this out?", "yes or no").value_or(""));
  if (word == "yes" || word == "y") return;
  throw Error(ErrorCode::Declined, "declined; nothing was changed");
}

namespace {

void show_done(const Session& session, const plan::Plan& plan, const operations::Outcome& outcome) {
  const auto id = number(*outcome.transaction);
  if (outcome.stopped_too_late)
    session.screen().note("You asked to stop in the middle of the switch, which takes moments: it was finished first.");
  if (session.json())
    return session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "done"}, {"transaction", id}}));
  if (session.quiet()) return;
  session.screen().line(fmt::format("\n{} as transaction {}; `{}` takes it back.",
                                    session.screen().paint(Style::Strong, "Done"), id,
                                    session.copyable(fmt::format("hambrel undo {}", id))));
  if (outcome.cache.files > 0)
    session.screen().line(fmt::format("The cache dropped {}, {}, by the limits of hambrel.toml.",
                                      count_text(outcome.cache.files, "package file", "package files"),
                                      size_text(outcome.cache.bytes)));
}

void show_prepared(const Session& session, const plan::Plan& plan, const operations::Outcome& outcome) {
  if (session.json())
    return session.screen().line(
        canonical({{"plan", to_json(plan)}, {"result", "prepared"}, {"staged", outcome.staged}}));
  if (session.quiet()) return;
  session.screen().line(
      fmt::format("\n{}, {} staged; nothing of the running system was changed. `{}` switches, `{}` drops it.",
                  session.screen().paint(Style::Strong, "Prepared"), size_text(outcome.staged),
                  session.copyable("hambrel activate"), session.copyable("hambrel activate --discard")));
}

void show_fetched(const Session& session, const plan::Plan& plan, const operations::Outcome& outcome) {
  if (session.json())
    return session.screen().line(
        canonical({{"plan", to_json(plan)}, {"result", "fetched"}, {"downloaded", outcome.fetched}}));
  if (session.quiet()) return;
  session.screen().line(outcome.fetched == 0 ? "Everything lies in the cache already; nothing else was changed."
                                             : fmt::format("Fetched {} into the cache; nothing else was changed.",
                                                           size_text(outcome.fetched)));
}

}  // namespace

void show(const Session& session, const plan::Plan& plan, const operations::Outcome& outcome) {
  switch (outcome.end) {
    case operations::End::Switch: return show_done(session, plan, outcome);
    case operations::End::Prepare: return show_prepared(session, plan, outcome);
    case operations::End::FetchOnly: return show_fetched(session, plan, outcome);
  }
}

}  // namespace hambrel::cli
