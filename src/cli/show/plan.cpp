#include "cli/show/plan.h"
#include "cli/show/acting.h"
#include "cli/terminal/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <map>
#include <set>
#include <span>

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
  if (step.action == Action::Hold) return step.why.text() + ": stays at this version";
  return step.why.text() + (step.held ? ", now held" : "");
}

const char* participle_of(plan::ConfigAction action) {
  switch (action) {
    case plan::ConfigAction::Keep: return "kept";
    case plan::ConfigAction::Take: return "replaced";
    case plan::ConfigAction::Merge: return "merged";
    case plan::ConfigAction::Edit: return "edited";
    case plan::ConfigAction::Wait: return "kept for now";
    case plan::ConfigAction::Carry: return "moved";
    case plan::ConfigAction::Purge: return "purged";
    case plan::ConfigAction::Restore: return "restored";
    case plan::ConfigAction::Ask: return "asked about";
  }
  return "";
}

/// Where all packages of a plan of several come from, or came from; empty: not all from one place.
std::string common_origin(const plan::Plan& plan) {
  if (plan.steps.size() < 2) return {};
  const std::string& first = plan.steps.front().origin;
  const bool same =
      std::all_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) { return step.origin == first; });
  return same ? first : std::string();
}

/// " from skerry-base/stable and skerry-harbour/stable"; empty for more than a few.
std::string sources_text(const plan::Plan& plan) {
  constexpr std::size_t kFew = 3;
  std::set<std::string> sources;
  for (const Step& step : plan.steps)
    if (step.download > 0) sources.insert(step.origin);
  if (sources.empty() || sources.size() > kFew) return {};
  std::string text = " from " + *sources.begin();
  for (auto one = std::next(sources.begin()); one != sources.end(); ++one)
    text += (std::next(one) == sources.end() ? " and " : ", ") + *one;
  return text;
}

/// "5 packages will be installed, 2 upgraded, 1 configuration file merged"
std::string sentence_of(const plan::Plan& plan) {
  std::vector<std::string> parts;
  bool about_packages = false;
  const auto add = [&](std::size_t count, const char* one, const char* several, std::string_view what, bool noun) {
    if (count == 0) return;
    const std::string subject = noun ? count_text(count, one, several) : std::to_string(count);
    parts.push_back(fmt::format("{} {}{}", subject, parts.empty() ? "will be " : "", what));
  };
  const auto add_packages = [&](Action action, const char* what) {
    add(plan.count(action), "package", "packages", what, !about_packages);
    about_packages = about_packages || plan.count(action) > 0;
  };
  add_packages(Action::Install, "installed");
  add_packages(Action::Upgrade, "upgraded");
  add_packages(Action::Downgrade, "downgraded");
  add_packages(Action::Remove, "removed");
  add_packages(Action::Repair, "repaired");
  add_packages(Action::Shelve, "shelved");
  add_packages(Action::Unshelve, "unshelved");
  add_packages(Action::Want, "now wanted");
  add_packages(Action::Unwant, "now marked as a dependency");
  add_packages(Action::Hold, "held");
  add_packages(Action::Release, "released");
  std::map<plan::ConfigAction, std::size_t> configs;
  for (const plan::ConfigStep& one : plan.configs) ++configs[one.action];
  bool about_configs = false;
  for (const auto& [action, count] : configs) {
    if (action == plan::ConfigAction::Ask) continue;
    add(count, "configuration file", "configuration files", participle_of(action), !about_configs);
    about_configs = true;
  }
  if (const auto asked = configs.find(plan::ConfigAction::Ask); asked != configs.end())
    parts.push_back(fmt::format("{} a decision",
                                count_text(asked->second, "configuration file needs", "configuration files need")));
  if (parts.empty() && !plan.follows.empty())
    return count_text(plan.follows.size(), "package follows another channel", "packages follow another channel");
  if (parts.empty() && !plan.links.empty())
    return plan.links.size() == 1 ? "1 link will be changed"
                                  : fmt::format("{} links will be changed", plan.links.size());
  if (parts.empty() && !plan.services.empty())
    return fmt::format("1 service will be {}d", plan::text_of(plan.services.front().kind));
  if (parts.empty() && !plan.runs.empty())
    return count_text(plan.runs.size(), "program of a package will be run", "programs of packages will be run");
  return parts.empty() ? "New configuration that waits for a decision will be dropped" : join(parts, ", ");
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

namespace {

std::string sentence_of(const plan::HeldBack& one) {
  const std::string offered = one.renamed.empty() ? one.offered : one.renamed + " " + one.offered;
  if (one.stays.empty()) return fmt::format("{} is removed ({} is available)", one.name, offered);
  return fmt::format("{} stays at {} ({} {})", one.name, one.stays, offered,
                     one.renamed.empty() ? "is available" : "takes over from it");
}

/// What it would bring if the reason were none.
std::string way_out(const plan::HeldBack& one) {
  if (one.together == 0) return {};
  return one.together == 1 ? "; without that it could be upgraded"
                           : fmt::format("; without that {} could be upgraded", one.together);
}

}  // namespace

void print_held_back(const Session& session, const plan::Plan& plan, bool all) {
  constexpr std::size_t kMostReasons = 6;
  const Screen& screen = session.screen();
  const auto note = [&](const std::string& text) { screen.remark(text); };
  std::vector<std::pair<std::string, std::vector<const plan::HeldBack*>>> groups;  // by reason
  for (const plan::HeldBack& one : plan.held_back) {
    if (one.held) {
      note(fmt::format("{} is held at {} ({} is available){}{}", one.name, one.stays, one.offered,
                       one.why.empty() ? "" : ": ", printable(one.why)));
      continue;
    }
    auto group = std::find_if(groups.begin(), groups.end(), [&](const auto& known) { return known.first == one.why; });
    if (group == groups.end()) group = groups.insert(groups.end(), {one.why, {}});
    group->second.push_back(&one);
  }
  std::stable_sort(groups.begin(), groups.end(),
                   [](const auto& a, const auto& b) { return a.second.size() > b.second.size(); });
  const std::size_t shown = all || groups.size() <= kMostReasons + 1 ? groups.size() : kMostReasons;
  for (const auto& [why, members] : std::span(groups).first(shown)) {
    const std::string& first = members.front()->name;
    const std::string reason =
        why.empty()
            ? fmt::format("`{}` says what prevents it",
                          session.copyable(fmt::format("hambrel why '{}>={}'", first, members.front()->offered)))
            : why;
    if (members.size() == 1) {
      note(fmt::format("{}: {}{}", sentence_of(*members.front()), reason, way_out(*members.front())));
      continue;
    }
    std::vector<std::string> names;
    for (const plan::HeldBack* one : members) names.push_back(one->name);
    note(fmt::format("{} packages are held back: {}{}", members.size(), reason, way_out(*members.front())));
    screen.paragraph(plan::some_of(names), 8);
  }
  if (shown < groups.size()) {
    std::size_t packages = 0;
    for (const auto& [why, members] : std::span(groups).subspan(shown)) packages += members.size();
    note(fmt::format("{} held back for {} more reasons; --verbose shows them",
                     count_text(packages, "more package is", "more packages are"), groups.size() - shown));
  }
  if (!plan.without_strays) return;
  const auto& dropped = plan.without_strays->dropped;
  note(fmt::format("`{}` would hold back {} instead of {}, and remove {} that no repository offers any more: {}",
                   session.copyable("hambrel upgrade --drop-strays"),
                   plan.without_strays->held_back == 0 ? "none" : std::to_string(plan.without_strays->held_back),
                   plan.held_back.size(), count_text(dropped.size(), "wanted package", "wanted packages"),
                   plan::some_of(dropped)));
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

namespace {

// What is removed or goes back comes first.
constexpr Action kOrder[] = {Action::Remove, Action::Downgrade, Action::Upgrade,  Action::Install,
                             Action::Repair, Action::Shelve,    Action::Unshelve, Action::Want,
                             Action::Unwant, Action::Hold,      Action::Release};

bool was_asked_for(const Step& step) { return step.why.kind == plan::WhyKind::Asked; }

/// A package that somebody wants, and that goes without having been named.
bool is_loss(const Step& step) {
  const bool of_the_past = step.why.kind == plan::WhyKind::Undone || step.why.kind == plan::WhyKind::RolledBack;
  return step.action == Action::Remove && step.reason == Reason::Wanted && !was_asked_for(step) && !of_the_past;
}

/// The steps in the order in which they are shown: losses, then by what happens; what was asked for before the rest.
std::vector<const Step*> in_order(const plan::Plan& plan) {
  std::vector<const Step*> steps;
  const auto add = [&](const auto& fits) {
    for (const Step& step : plan.steps)
      if (fits(step)) steps.push_back(&step);
  };
  add(is_loss);
  for (const Action action : kOrder)
    for (const bool asked : {true, false})
      add([&](const Step& step) { return step.action == action && asked == was_asked_for(step) && !is_loss(step); });
  return steps;
}

void print_steps(const Screen& screen, const plan::Plan& plan, const std::vector<const Step*>& steps) {
  const auto machine =
      std::find_if(plan.steps.begin(), plan.steps.end(), [](const Step& s) { return s.arch != kIndependent; });
  const bool several = std::any_of(plan.steps.begin(), plan.steps.end(), [&](const Step& step) {
    return step.arch != kIndependent && step.arch != machine->arch;
  });
  const bool one_source = !common_origin(plan).empty();
  Table table;
  for (const Step* step : steps)
    table.row({{std::string(text_of(step->action)), is_loss(*step) ? Style::Warn : style_of(step->action)},
               {step->name, Style::Name},
               {versions_of(*step), Style::Plain, false, true},
               {several ? step->arch : "", Style::Faint},
               {is_loss(*step) ? reason_of(*step) + " (wanted)" : reason_of(*step)},
               {one_source ? "" : step->origin, Style::Faint, false, false, true},
               {change_text(step->size_change), Style::Plain, true}});
  table.print(screen);
}

/// So many packages of one kind of step in a paragraph of their names.
void print_names(const Screen& screen, Action action, const std::vector<const Step*>& steps) {
  constexpr std::size_t kMost = 40;
  ByteCount download = 0;
  std::vector<std::string> names;
  for (const Step* step : steps) {
    download += step->download;
    names.push_back(step->name);
  }
  std::sort(names.begin(), names.end());
  if (names.size() > kMost) names.resize(kMost);
  std::string text = join(names, ", ");
  if (steps.size() > kMost) text += fmt::format(" and {} more", steps.size() - kMost);
  screen.line(fmt::format("  {}  {}{}", screen.paint(style_of(action), text_of(action)),
                          count_text(steps.size(), "package", "packages"),
                          download > 0 ? fmt::format(", {} to fetch:", size_text(download)) : ":"));
  screen.paragraph(text, 4);
}

/// Losses and what was asked for in lines, the rest as names.
void print_short(const Screen& screen, const plan::Plan& plan) {
  constexpr std::size_t kMostLines = 12;
  std::vector<const Step*> lines;
  std::map<Action, std::vector<const Step*>> rest;
  for (const Step* step : in_order(plan)) {
    if (is_loss(*step) || (was_asked_for(*step) && lines.size() < kMostLines))
      lines.push_back(step);
    else
      rest[step->action].push_back(step);
  }
  print_steps(screen, plan, lines);
  for (const Action action : kOrder)
    if (const auto found = rest.find(action); found != rest.end()) print_names(screen, action, found->second);
}

/// What can't be undone first, and what nobody vouches for.
void print_notices(const Screen& screen, const plan::Plan& plan, bool all) {
  constexpr std::size_t kMost = 8;
  std::vector<const plan::Notice*> notices;
  for (const plan::Notice& notice : plan.notices) notices.push_back(&notice);
  const auto is_grave = [](const plan::Notice* notice) {
    using Kind = plan::Notice::Kind;
    return notice->kind == Kind::GivenUp || notice->kind == Kind::Lost || notice->kind == Kind::Unsigned ||
           notice->kind == Kind::UnknownKey;
  };
  std::stable_partition(notices.begin(), notices.end(), is_grave);
  const std::size_t shown = all ? notices.size() : std::min(notices.size(), kMost);
  for (std::size_t i = 0; i < shown; ++i) screen.remark(printable(notices[i]->text()));
  if (shown < notices.size()) screen.remark(fmt::format("{} more notes with --verbose", notices.size() - shown));
}

}  // namespace

bool is_long(const plan::Plan& plan) {
  constexpr std::size_t kFew = 12;
  return plan.steps.size() > kFew;
}

namespace {

/// What it costs, in one sentence.
void print_price(const Screen& screen, const plan::Plan& plan) {
  if (plan.steps.empty() && plan.configs.empty() && !plan.follows.empty()) return screen.line("  No file changes.");
  if (plan.steps.empty()) return screen.line("  No package changes; replaced files are moved to the attic.");
  if (std::all_of(plan.steps.begin(), plan.steps.end(), [](const Step& step) { return step.only_state(); }))
    return screen.line("  No file changes.");
  if (plan.kind == "shelve")
    return screen.line("  The files are moved to the attic and wait there; configuration stays where it is.");
  const bool only_damage =
      std::all_of(plan.steps.begin(), plan.steps.end(), [](const Step& step) { return step.action == Action::Repair; });
  if (plan.kind == "repair" && only_damage && plan.download() == 0)
    return screen.line("  Only what is damaged is touched; nothing to fetch.");
  const auto files = static_cast<std::size_t>(
      std::count_if(plan.steps.begin(), plan.steps.end(), [](const Step& step) { return step.download > 0; }));
  ByteCount whole = plan.download();  // of what is fetched, with all that is here already
  for (const Step& step : plan.steps)
    if (step.whole > 0) whole += step.whole - std::min(step.whole, step.download);
  std::string fetch = files == 0 ? "Nothing to fetch" : "Fetches " + size_text(plan.download());
  const bool saves = plan.download() < whole / 4 * 3;
  if (saves) fetch += fmt::format(" of {} (the rest is here)", size_text(whole));
  if (files > 0) fetch += fmt::format(" in {}", count_text(files, "file", "files"));
  if (const std::string source = common_origin(plan); !source.empty())
    fetch += files == 0 ? fmt::format(" (all from {})", source) : " from " + source;
  else if (files > 0)
    fetch += sources_text(plan);
  screen.paragraph(fmt::format("{}, disk use {}.", fetch, change_text(plan.size_change())), 2);
}

}  // namespace

void print_plan(const Session& session, const plan::Plan& plan, PlanLines lines) {
  const Screen& screen = session.screen();
  const std::string& root = session.root_path();
  const bool all = lines == PlanLines::All || session.verbose() || !output_is_terminal() || !is_long(plan);
  screen.line(fmt::format("{}{}", screen.paint(Style::Strong, sentence_of(plan) + "."),
                          root == "/" ? "" : screen.paint(Style::Faint, "  in " + printable(root))));
  screen.line();
  if (all)
    print_steps(screen, plan, in_order(plan));
  else
    print_short(screen, plan);
  if (!plan.steps.empty()) screen.line();
  if (!plan.configs.empty()) {
    print_configs(screen, plan.configs);
    screen.line();
  }
  print_acting(screen, plan);
  print_notices(screen, plan, all);
  print_held_back(session, plan, all);
  if (!plan.proved) screen.remark("this plan works and is the best found in the time allowed; a better one may exist");
  if (!plan.unneeded.empty())
    screen.remark("no longer needed: " +
                  (session.verbose() ? join(plan.unneeded, ", ") : plan::some_of(plan.unneeded)));
  if (!plan.notices.empty() || !plan.held_back.empty() || !plan.unneeded.empty() || !plan.proved) screen.line();
  print_price(screen, plan);
}

namespace {

// What programs know them by. Never change them.
constexpr const char* kWhyNames[] = {"asked",       "required",       "recommended", "newer",      "replacing",
                                     "replaced-by", "loses-provider", "in-conflict", "makes-room", "stray",
                                     "unneeded",    "undone",         "rolled-back", "damaged",    "old-in-conflict"};
constexpr const char* kNoticeNames[] = {"config-kept",  "config-displaced", "config-stays-away", "leftover",
                                        "unowned",      "directory-stays",  "changed",           "privileged",
                                        "lost",         "given-up",         "config-unmerged",   "config-unknown",
                                        "own-settings", "open-to-all",      "directory-lower",   "unsigned",
                                        "unknown-key",  "signed",           "account-stays"};
static_assert(std::size(kNoticeNames) == static_cast<std::size_t>(plan::Notice::Kind::AccountStays) + 1);

}  // namespace

Json to_json(const plan::Voucher& voucher) { return {{"root", voucher.root}, {"keys", voucher.keys}}; }

std::string vouched_text(const plan::Voucher& voucher, const std::string& origin) {
  std::string text =
      voucher.root == 0 ? origin : fmt::format("{} by root {}", origin.substr(0, origin.find('/')), voucher.root);
  for (const std::string& key : voucher.keys) text += fmt::format(", key {}", short_id(key));
  return text;
}

namespace {

Json json_of(const plan::Step& step) {
  Json why = {{"kind", kWhyNames[static_cast<int>(step.why.kind)]}, {"text", step.why.text()}};
  if (!step.why.by.empty()) why["by"] = step.why.by;
  if (!step.why.relation.empty()) why["relation"] = step.why.relation;
  Json document = Json{{"action", text_of(step.action)},
                       {"name", step.name},
                       {"arch", step.arch},
                       {"before", step.before.empty() ? Json() : Json(step.before)},
                       {"after", step.after.empty() ? Json() : Json(step.after)},
                       {"why", std::move(why)},
                       {"origin", step.origin},
                       {"reason", text_of(step.reason)},
                       {"download", step.download},
                       {"held", step.held},
                       {"size_change", step.size_change}};
  if (step.whole > 0) document["whole"] = step.whole;
  if (step.voucher) document["vouched"] = to_json(*step.voucher);
  return document;
}

}  // namespace

Json to_json(const plan::Plan& plan) {
  Json steps = Json::array();
  for (const plan::Step& step : plan.steps) steps.push_back(json_of(step));
  Json notices = Json::array();
  for (const plan::Notice& notice : plan.notices)
    notices.push_back({{"kind", kNoticeNames[static_cast<int>(notice.kind)]},
                       {"path", notice.is_about_path() ? "/" + notice.path : notice.path},
                       {"package", notice.package},
                       {"text", notice.text()}});
  Json configs = Json::array();
  for (const plan::ConfigStep& one : plan.configs)
    configs.push_back({{"action", text_of(one.action)},
                       {"path", "/" + one.path},
                       {"package", one.package},
                       {"from", one.from.empty() ? Json() : Json("/" + one.from)},
                       {"before", one.before ? Json(one.before->hex()) : Json()},
                       {"after", one.after ? Json(one.after->hex()) : Json()},
                       {"leftover", one.leftover},
                       {"text", one.text()}});
  Json held_back = Json::array();
  for (const plan::HeldBack& one : plan.held_back)
    held_back.push_back({{"name", one.name},
                         {"renamed", one.renamed},
                         {"together", one.together},
                         {"stays", one.stays},
                         {"offered", one.offered},
                         {"held", one.held},
                         {"why", one.why},
                         {"by", one.by}});
  Json whole = {{"kind", plan.kind},
                {"proved", plan.proved},
                {"held_back", std::move(held_back)},
                {"steps", std::move(steps)},
                {"configs", std::move(configs)},
                {"notices", std::move(notices)},
                {"follows", to_json(plan.follows)},
                {"links", to_json(plan.links)},
                {"accounts", to_json(plan.accounts)},
                {"runs", to_json(plan.runs)},
                {"services", to_json(plan.services)},
                {"questions", to_json(plan.questions)},
                {"unneeded", plan.unneeded},
                {"download", plan.download()},
                {"size_change", plan.size_change()}};
  if (plan.without_strays)
    whole["without_strays"] = {{"held_back", plan.without_strays->held_back},
                               {"dropped", plan.without_strays->dropped}};
  return whole;
}

}  // namespace hambrel::cli
