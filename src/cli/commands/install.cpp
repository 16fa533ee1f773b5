// install, remove, upgrade, change; hold, release, want, unwant; shelve, unshelve: what is asked for.
#include <fmt/format.h>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/build.h"
#include "cli/commands/follow.h"
#include "operations/asking.h"
#include "operations/leftovers.h"
#include "operations/shelf.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

int change(Session& session, const Arguments& arguments, operations::ChangeRequest request,
           const operations::Named& named) {
  operations::ask_for(session.root(), named, request);
  return carry_out(session, arguments, std::move(request));
}

int mark(Session& session, const Arguments& arguments, plan::Action action, std::optional<std::int64_t> until = {}) {
  begin(session, arguments);
  operations::MarkRequest request = operations::ask_to_mark(session.root(), action, arguments.words());
  request.until = until;
  if (const auto reason = arguments.value("reason")) request.reason = printable(*reason);
  request.end = end_of(arguments);
  return carry_out(session, arguments, operations::propose(session.root(), request));
}

}  // namespace

int run_install(Session& session, const Arguments& arguments) {
  if (arguments.has("from-source")) return install_from_source(session, arguments);
  begin(session, arguments);
  operations::Named named{.install = arguments.words()};
  if (arguments.has("optional"))
    for (std::string& word : named.install) word = operations::with_optional_members(session.root(), word);
  operations::ChangeRequest request = change_request(session, arguments, "install");
  follow_what_is_named(arguments, session.root(), request);
  return change(session, arguments, std::move(request), named);
}

int run_remove(Session& session, const Arguments& arguments) {
  begin(session, arguments);
  auto removal =
      operations::ask_to_remove(session.root(), arguments.words(), change_request(session, arguments, "remove"));
  if (removal.left.empty()) return carry_out(session, arguments, std::move(removal.request));
  return carry_out(session, arguments,
                   operations::propose_purge(session.root(), removal.left, planned_terms(arguments)));
}

int run_upgrade(Session& session, const Arguments& arguments) {
  std::vector<std::string> rebuilt;
  if (arguments.has("no-builds"))
    begin(session, arguments);
  else if (const auto failed = begin_with_rebuilds(session, arguments, rebuilt))
    return *failed;
  operations::ChangeRequest request = change_request(session, arguments, "upgrade");
  request.solve.upgrade_all = arguments.words().empty();
  request.solve.drop_strays = arguments.has("drop-strays");
  if (request.solve.drop_strays && !request.solve.upgrade_all)
    throw Error(ErrorCode::Usage, "--drop-strays is for the upgrade of everything", {}, "leave out the names");
  return change(session, arguments, std::move(request),
                {.install = std::move(rebuilt), .upgrade = arguments.words(), .except = arguments.values("except")});
}

namespace {

/// From a file of lines, or from standard input.
int change_from(Session& session, const Arguments& arguments, const std::string& file) {
  const std::string where = file == "-" ? "standard input" : file;
  const operations::ChangeLines lines = operations::parse_changes(text_given(file), where);
  if (lines.empty())
    throw Error(ErrorCode::Usage, "has no changes in it", file, "`hambrel help change` shows examples");
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "change");
  operations::ask_for(session.root(), lines, request);
  return carry_out(session, arguments, std::move(request));
}

}  // namespace

int run_change(Session& session, const Arguments& arguments) {
  if (!arguments.words().empty()) {
    for (const char* const option : {"install", "remove", "upgrade", "release"})
      if (arguments.has(option))
        throw Error(ErrorCode::Usage, fmt::format("--{} does not go with a file of changes", option), {},
                    "write it into the file");
    return change_from(session, arguments, arguments.words()[0]);
  }
  const operations::Named named{.install = arguments.values("install"),
                                .remove = arguments.values("remove"),
                                .upgrade = arguments.values("upgrade"),
                                .release = arguments.values("release")};
  if (named.install.empty() && named.remove.empty() && named.upgrade.empty())
    throw Error(ErrorCode::Usage, "nothing to change was given", {}, "`hambrel help change` shows examples");
  begin(session, arguments);
  return change(session, arguments, change_request(session, arguments, "change"), named);
}

int run_hold(Session& session, const Arguments& arguments) {
  std::optional<std::int64_t> until;
  if (const auto given = arguments.value("until")) {
    const auto date = parse_date(*given);
    if (!date || *date <= os::now())
      throw Error(ErrorCode::Usage, fmt::format("--until {}: must be a future date", printable(*given)), {},
                  "for example --until 2030-01-31; the hold ends when that day (UTC) begins");
    until = *date;
  }
  return mark(session, arguments, plan::Action::Hold, until);
}

int run_release(Session& session, const Arguments& arguments) {
  return mark(session, arguments, plan::Action::Release);
}
int run_want(Session& session, const Arguments& arguments) { return mark(session, arguments, plan::Action::Want); }
int run_unwant(Session& session, const Arguments& arguments) { return mark(session, arguments, plan::Action::Unwant); }

int run_shelve(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  return carry_out(session, arguments, operations::propose_shelve(session.root(), specs, planned_terms(arguments)));
}

int run_unshelve(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "unshelve");
  operations::add_unshelved(session.root(), specs, request);
  return carry_out(session, arguments, std::move(request));
}

}  // namespace hambrel::cli
