// services: what the services of packages are doing, and acting on them.
#include "operations/services.h"

#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/services.h"

namespace hambrel::cli {

namespace {

using operations::ServiceAction;
using operations::ServiceLine;

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
    add(rows, done);
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
  if (words.size() <= 1 && (word == "list" || word == "due")) {
    const auto all = operations::service_list(session.root(), true);
    if (word == "list")
      show(session, all);
    else
      show_due(session, all);
    return 0;
  }
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
