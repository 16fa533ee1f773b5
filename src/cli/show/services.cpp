#include "cli/show/services.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "plan/plan.h"

namespace hambrel::cli {

using operations::ServiceLine;
using operations::ServiceList;
using operations::ServiceState;

namespace {

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

Json line_to_json(const ServiceLine& one) {
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
  rows.add([&] { return line_to_json(one); }, {{one.name, Style::Name},
                                               {operations::text_of(one.state), style_of(one.state)},
                                               {enabled_text(one)},
                                               {one.package, Style::Faint},
                                               {due, Style::Change}});
}

}  // namespace

void show(const Session& session, const ServiceList& all) {
  Rows rows(session);
  for (const ServiceLine& one : all.lines) add(rows, one);
  rows.print("No installed package has a service.");
  if (session.json() || session.quiet() || all.lines.empty()) return;
  if (all.manager.empty())
    session.screen().remark("no service manager was found in this root; [services] manager in hambrel.toml names one");
  else if (!all.live)
    session.screen().remark(fmt::format("{} does not run on this root, so that states are not known", all.manager));
}

void show_due(const Session& session, const ServiceList& all) {
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
  if (session.json() || session.quiet()) return;
  const Screen& screen = session.screen();
  if (!all.live) screen.line("No service manager runs on this root, so that nothing is known of its services.");
  if (some_service)
    screen.remark(fmt::format("`{}` restarts these services", session.copyable("hambrel services restart --due")));
  if (some_session) screen.remark("a program that is of no service has to be started anew by whoever uses it");
  if (machine) screen.remark("the first process of the machine is among them: only a restart of the machine helps");
}

void add(Rows& rows, const operations::ServiceDone& done) {
  rows.add(
      [&] {
        return Json{{"service", done.name}, {"action", done.action}, {"problem", done.said}};
      },
      {{done.action, done.good ? Style::Come : Style::Go},
       {done.name, Style::Name},
       {done.good ? "done" : "failed: " + done.said}});
}

}  // namespace hambrel::cli
