// services: what the services of packages are doing, and acting on them.
#include "operations/services.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/rows.h"

namespace hambrel::cli {

namespace {

using operations::ServiceAction;
using operations::ServiceLine;
using operations::ServiceState;

std::string files_text(const std::vector<std::string>& files) {
  constexpr std::size_t kMost = 2;
  std::vector<std::string> shown;
  for (const std::string& one : files) shown.push_back(printable(one));
  return plan::some_of(shown, kMost);
}

std::string_view enabled_text(const ServiceLine& one) {
  if (!one.enabled) return "";
  return *one.enabled ? "enabled" : "disabled";
}

Json to_json(const ServiceLine& one) {
  return {{"service", one.name},
          {"package", one.package},
          {"state", operations::text_of(one.state)},
          {"enabled", one.enabled ? Json(*one.enabled) : Json()},
          {"due", !one.replaced.empty()},
          {"replaced", one.replaced}};
}

Style style_of(ServiceState state) {
  if (state == ServiceState::Running) return Style::Come;
  return state == ServiceState::Failed ? Style::Go : Style::Plain;
}

void add(Rows& rows, const ServiceLine& one) {
  const std::string due = one.replaced.empty() ? "" : "due: runs on replaced files, " + files_text(one.replaced);
  rows.add([&] { return to_json(one); }, {{one.name, Style::Name},
                                          {operations::text_of(one.state), style_of(one.state)},
                                          {enabled_text(one)},
                                          {one.package, Style::Faint},
                                          {due, Style::Change}});
}

int list(Session& session) {
  const auto all = operations::service_list(session.root(), true);
  Rows rows(session);
  for (const ServiceLine& one : all.lines) add(rows, one);
  rows.print("No installed package has a service.");
  if (session.json() || session.quiet() || all.lines.empty()) return 0;
  if (all.manager.empty())
    session.screen().remark("no service manager was found in this root; [services] manager in hambrel.toml names one");
  else if (!all.live)
    session.screen().remark(fmt::format("{} does not run on this root, so that states are not known", all.manager));
  return 0;
}

/// Services, and all else that only a restart of its own brings to the new files.
int list_due(Session& session) {
  const auto all = operations::service_list(session.root(), true);
  Rows rows(session);
  bool some_service = false, some_session = false, machine = false;
  for (const ServiceLine& one : all.lines) {
    if (one.replaced.empty()) continue;
    some_service = true;
    add(rows, one);
  }
  for (const auto& one : all.others) {
    (one.is_system ? machine : some_session) = true;
    rows.add(
        [&] {
          return Json{{"process", one.id},
                      {"name", one.name},
                      {"user", one.user},
                      {"system", one.is_system},
                      {"replaced", one.replaced}};
        },
        {{one.name, Style::Name},
         {fmt::format("process {}", one.id)},
         {""},
         {one.user, Style::Faint},
         {"runs on replaced files, " + files_text(one.replaced), Style::Change}});
  }
  rows.print(all.live ? "Nothing runs on files that were replaced." : "");
  if (session.json() || session.quiet()) return 0;
  const Screen& screen = session.screen();
  if (!all.live) screen.line("No service manager runs on this root, so that nothing is known of its services.");
  if (some_service)
    screen.remark(fmt::format("`{}` restarts these services", session.copyable("hambrel services restart --due")));
  if (some_session) screen.remark("a program that is of no service has to be started anew by whoever uses it");
  if (machine) screen.remark("the first process of the machine is among them: only a restart of the machine helps");
  return 0;
}

std::optional<ServiceAction> action_from(std::string_view word) {
  if (word == "start") return ServiceAction::Start;
  if (word == "stop") return ServiceAction::Stop;
  if (word == "restart") return ServiceAction::Restart;
  if (word == "reload") return ServiceAction::Reload;
  return std::nullopt;
}

std::vector<std::string> due_services(Session& session) {
  std::vector<std::string> names;
  for (const ServiceLine& one : operations::service_list(session.root(), true).lines)
    if (!one.replaced.empty()) names.push_back(one.name);
  return names;
}

/// Each is tried, whatever becomes of the others.
int act(Session& session, const Arguments& arguments, ServiceAction action) {
  std::vector<std::string> names(arguments.words().begin() + 1, arguments.words().end());
  const bool due = arguments.has("due");
  if (due && (action != ServiceAction::Restart || !names.empty()))
    throw Error(ErrorCode::Usage, "--due is for `hambrel services restart` without names", {}, "leave out one of both");
  if (due) names = due_services(session);
  if (names.empty() && !due)
    throw Error(ErrorCode::Usage, fmt::format("which service is to {}?", arguments.words()[0]), {},
                "`hambrel services` lists them");
  Rows rows(session);
  bool good = true;
  for (const std::string& name : names) {
    const auto done = operations::act_on(session.root(), name, action);
    good = good && done.good;
    rows.add(
        [&] {
          return Json{{"service", done.name}, {"action", done.action}, {"problem", done.said}};
        },
        {{done.action, done.good ? Style::Come : Style::Go},
         {done.name, Style::Name},
         {done.good ? "done" : "failed: " + done.said}});
  }
  rows.print("No service runs on files that were replaced.");
  return good ? 0 : exit_code(ErrorCode::Io);
}

}  // namespace

int run_services(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string word = words.empty() ? "list" : words[0];
  if (word != "restart" && arguments.has("due"))
    throw Error(ErrorCode::Usage, "--due is for `hambrel services restart`", {},
                "`hambrel services due` lists what is due");
  if (const auto action = action_from(word)) return act(session, arguments, *action);
  if (words.size() <= 1 && word == "list") return list(session);
  if (words.size() == 1 && word == "due") return list_due(session);
  if ((word == "enable" || word == "disable") && words.size() == 2) {
    open_for(session, arguments);
    return carry_out(
        session, arguments,
        operations::propose(session.root(), operations::EnableRequest{words[1], word == "enable", end_of(arguments)}));
  }
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel services {}`", printable(join(words, " "))), {},
              "use `hambrel services`, `services due`, or start, stop, restart, reload, enable or disable and a name");
}

}  // namespace hambrel::cli
