#include "cli/show/outcome.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "operations/ledger.h"

namespace hambrel::cli {

namespace {

using operations::End;
using operations::Outcome;

std::string done_text(const Session& session, const Outcome& outcome) {
  const auto id = number(*outcome.transaction);
  std::string text =
      fmt::format("\n{} as transaction {}. To undo it: `{}`", session.screen().paint(Style::Strong, "Done"), id,
                  session.copyable(fmt::format("hambrel undo {}", id)));
  if (outcome.cache.files > 0)
    text +=
        fmt::format("\nRemoved {} ({}) from the cache, as hambrel.toml says.",
                    count_text(outcome.cache.files, "package file", "package files"), size_text(outcome.cache.bytes));
  return text;
}

std::string prepared_text(const Session& session, const Outcome& outcome) {
  return fmt::format("\n{}, {} staged; nothing was changed on the running system. `{}` switches to it, `{}` drops it.",
                     session.screen().paint(Style::Strong, "Prepared"), size_text(outcome.staged),
                     session.copyable("hambrel activate"), session.copyable("hambrel activate --discard"));
}

std::string fetched_text(const Outcome& outcome) {
  if (outcome.fetched == 0) return "Everything is in the cache already; nothing else was changed.";
  return fmt::format("Fetched {} into the cache; nothing else was changed.", size_text(outcome.fetched));
}

std::string nothing_text(const plan::Plan& plan) {
  if (plan.kind == "upgrade" && plan.held_back.empty()) return "Nothing to do: everything is at its newest version.";
  if (plan.kind == "rollback") return "Nothing to do: everything is as it was then.";
  if (plan.kind == "settle") return "Nothing to do: no file needs a decision, or all stay as they are.";
  if (plan.kind == "repair") return "Nothing to repair: all files are identical to their packages.";
  return "Nothing to do: already as requested.";
}

}  // namespace

namespace {

/// Upgrades that wait beside those of the plan.
std::size_t other_upgrades(const Universe& universe, const plan::Plan& plan) {
  std::set<std::string_view> concerned;
  for (const plan::Step& step : plan.steps) concerned.insert(step.name);
  for (const plan::HeldBack& one : plan.held_back) concerned.insert(one.name);
  const auto& installed = universe.installed();
  return static_cast<std::size_t>(std::count_if(installed.begin(), installed.end(), [&](PackageId id) {
    return !concerned.contains(universe.name(id)) && !universe.held(id) && universe.newer_offer(id);
  }));
}

}  // namespace

namespace {

/// What people wait for: how long the last such change took, where that was long.
void tell_duration(Session& session, const std::string& kind) {
  constexpr std::uint64_t kMost = 20;  // entries that are looked at
  for (const auto& entry : operations::ledger_entries(session.root(), kMost)) {
    if (entry.kind != kind || entry.result != "done") continue;
    if (entry.ended - entry.started > 1)
      session.screen().paragraph(fmt::format("The last {} took {} s.", kind, entry.ended - entry.started), 2);
    return;
  }
}

}  // namespace

void show(Session& session, const Arguments& arguments, const operations::Proposal& proposal) {
  if (session.json()) {
    if (arguments.has("dry-run")) session.document({{"plan", to_json(proposal.plan())}, {"result", "dry run"}});
    return;
  }
  if (session.quiet() && arguments.has("yes")) return;
  print_plan(session, proposal.plan());
  for (const std::string& remark : proposal.remarks()) session.screen().remark(remark);
  // for people alone: it takes milliseconds where thousands of packages are installed
  if (!output_is_terminal()) return;
  tell_duration(session, proposal.plan().kind);
  if (proposal.plan().kind != "install") return;
  if (const std::size_t others = other_upgrades(session.universe(), proposal.plan()); others > 0)
    session.screen().paragraph(
        fmt::format("{} available: `{}`", count_text(others, "other upgrade is", "other upgrades are"),
                    session.copyable("hambrel upgrade")),
        2);
}

Json services_json(const Outcome& outcome) {
  Json list = Json::array();
  for (const operations::ServiceDone& one : outcome.services)
    list.push_back({{"service", one.name}, {"action", one.action}, {"problem", one.said}});
  return list;
}

std::string services_text(const Session& session, const Outcome& outcome) {
  std::string text;
  for (const operations::ServiceDone& one : outcome.services) {
    const std::string name = session.screen().paint(Style::Name, one.name);
    if (one.good)
      text += fmt::format("\nService {}: {}", name, one.action == "stop" ? "stopped" : one.action + "ed");
    else
      text += fmt::format("\nService {} {}: {}", name, session.screen().paint(Style::Go, "did not come up"),
                          printable(one.said));
  }
  return text;
}

void put_left(Json& document, const Outcome& outcome) {
  document["due"] = outcome.due;
  document["restart"] = {{"system", outcome.restart_system}, {"session", outcome.restart_session}};
}

std::string left_text(const Session& session, const Outcome& outcome) {
  std::string text;
  if (!outcome.due.empty())
    text += fmt::format("\nStill running on replaced files: {}. To restart: `{}`", plan::some_of(outcome.due),
                        session.copyable("hambrel services restart --due"));
  if (!outcome.restart_system.empty())
    text += fmt::format("\nThe machine has to be restarted for: {}", plan::some_of(outcome.restart_system));
  if (!outcome.restart_session.empty())
    text += fmt::format("\nUsers have to log in anew for: {}", plan::some_of(outcome.restart_session));
  return text;
}

void show(const Session& session, const plan::Plan& plan, const Outcome& outcome, const Outcome* undone) {
  if (outcome.stopped_too_late) session.screen().note("Interrupted during the switch, which was completed first.");
  Json document;
  if (session.json()) document["plan"] = to_json(plan);
  switch (outcome.end) {
    case End::Switch:
      document["result"] = "done";
      document["transaction"] = number(*outcome.transaction);
      document["services"] = services_json(outcome);
      put_left(document, outcome);
      if (undone == nullptr)
        return session.say(document,
                           done_text(session, outcome) + services_text(session, outcome) + left_text(session, outcome));
      document["result"] = "undone";
      document["undone_by"] = number(*undone->transaction);
      return session.say(
          document,
          fmt::format("\n{} as transaction {}, and undone as transaction {}: everything is as before.{}{}",
                      session.screen().paint(Style::Strong, "Done"), number(*outcome.transaction),
                      number(*undone->transaction), services_text(session, outcome), services_text(session, *undone)));
    case End::Prepare:
      document["result"] = "prepared";
      document["staged"] = outcome.staged;
      return session.say(document, prepared_text(session, outcome));
    case End::FetchOnly:
      document["result"] = "fetched";
      document["downloaded"] = outcome.fetched;
      return session.say(document, fetched_text(outcome));
  }
}

void show_nothing(const Session& session, const operations::Proposal& proposal) {
  const plan::Plan& plan = proposal.plan();
  if (session.json()) return session.document({{"plan", to_json(plan)}, {"result", "nothing to do"}});
  if (session.quiet()) return;
  const bool lost = plan.kind == "repair" && !plan.notices.empty();  // there is something, which can't be repaired
  if (!lost) session.screen().line(nothing_text(plan));
  for (const plan::Notice& notice : plan.notices) session.screen().remark(printable(notice.text()));
  for (const std::string& remark : proposal.remarks()) session.screen().remark(remark);
  print_held_back(session, plan, session.verbose() || !output_is_terminal());
}

}  // namespace hambrel::cli
