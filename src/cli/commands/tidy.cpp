// tidy: what could be freed, by area, and freeing it.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/tidy_builds.h"
#include "cli/show/freeable.h"

namespace hambrel::cli {

namespace {

int overview(Session& session) {
  if (!session.root().is_new()) session.tell_of_unusable_repositories();
  show(session, operations::freeable(session.root()), left_by_builds(session));
  return 0;
}

int tidy_unneeded(Session& session, const Arguments& arguments) {
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "remove");
  request.solve.drop_unneeded = true;
  request.solve.strict_unneeded = arguments.has("strict");
  request.strict = false;  // --strict is about packages here
  return carry_out(session, arguments, std::move(request));
}

/// Leftovers go to the attic, as a transaction; pristine contents that nothing began from are of no use to anybody.
int tidy_configs(Session& session, const Arguments& arguments) {
  begin(session, arguments);
  const Screen& screen = session.screen();
  const auto leftovers = operations::leftovers_of(session.root());
  const auto idle = operations::idle_pristine(session.root());
  const ByteCount bytes = operations::bytes_of(idle);
  const bool told = !session.json() && !session.quiet(), dry = arguments.has("dry-run");
  const std::string what = fmt::format("{}, {}", idle_text(idle.size()), size_text(bytes));
  if (!leftovers.empty()) {
    if (told && !idle.empty()) screen.remark("also dropped, permanently: " + what);
    const int code =
        carry_out(session, arguments, operations::propose_purge(session.root(), leftovers, planned_terms(arguments)));
    if (!dry) operations::drop(session.changed(), idle);
    return code;
  }
  if (idle.empty()) {
    session.say({{"result", "nothing to do"}}, "Nothing to do: no removed package has edited configuration left.");
    return 0;
  }
  const auto document = [&](const char* result) {
    return Json{{"pristine", idle.size()}, {"bytes", bytes}, {"result", result}};
  };
  const auto show_it = [&] {
    if (session.json()) return session.document(document("dry run"));
    screen.line(screen.paint(Style::Strong, what + " will be dropped") + ".");
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  operations::drop(session.changed(), idle);
  session.say(document("done"), fmt::format("\n{}: {} freed.", screen.paint(Style::Strong, "Done"), size_text(bytes)));
  return 0;
}

int tidy_cache(Session& session, const Arguments& arguments) {
  if (!arguments.has("dry-run")) session.change(arguments);
  session.tell_of_unusable_repositories();
  operations::CacheRequest request;
  request.limits.versions = arguments.number("keep");
  request.limits.days = arguments.number("older");
  request.all = arguments.has("all");
  request.unavailable = arguments.has("unavailable");
  const auto proposal = operations::propose_dropping(session.root(), request);
  if (proposal.goes.empty()) {
    session.say(to_json(proposal, "nothing to do"),
                proposal.files == 0 ? "Nothing to do: the cache is empty."
                                    : fmt::format("Nothing to do: {}, all within the limits. --all, "
                                                  "--unavailable, --keep N and --older DAYS remove more.",
                                                  count_text(proposal.files, "file", "files")));
    return 0;
  }
  const auto show_it = [&] {
    if (session.json()) return session.document(to_json(proposal, "dry run"));
    print(session, proposal);
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  operations::drop(session.changed(), proposal);
  session.say(to_json(proposal, "done"),
              fmt::format("\n{}: {} freed.", session.screen().paint(Style::Strong, "Done"), size_text(proposal.bytes)));
  return 0;
}

int tidy_attic(Session& session, const Arguments& arguments) {
  open_for(session, arguments);
  const auto proposal =
      operations::propose_giving_up(session.root(), {arguments.number("keep"), arguments.number("older"), {}});
  if (proposal.goes.empty()) {
    if (!session.json() && !session.quiet()) print_table(session, proposal);
    session.say(to_json(proposal, "nothing to do"),
                proposal.attics.empty()
                    ? "Nothing to do: the attic is empty."
                    : "Nothing to do: the attic is within its limits. --keep N and --older DAYS set others.");
    return 0;
  }
  const auto show_it = [&] {
    if (session.json()) return session.document(to_json(proposal, "dry run"));
    print(session, proposal);
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  const auto id = number(operations::give_up(session.changed(), proposal, arguments.value("reason").value_or("")));
  Json document = to_json(proposal, "done");
  document["transaction"] = id;
  session.say(document, fmt::format("\n{} as transaction {}: {} freed.", session.screen().paint(Style::Strong, "Done"),
                                    id, size_text(proposal.bytes)));
  return 0;
}

/// Options that belong to one area only.
void require_own_options(const Arguments& arguments, const std::string& area) {
  static const std::vector<std::pair<const char*, std::set<std::string>>> kOwn{
      {"strict", {"unneeded"}}, {"keep", {"attic", "cache"}}, {"older", {"attic", "cache"}},
      {"all", {"cache"}},       {"unavailable", {"cache"}},   {"reason", {"unneeded", "configs", "attic"}}};
  for (const auto& [option, areas] : kOwn)
    if (arguments.has(option) && !areas.contains(area))
      throw Error(ErrorCode::Usage, fmt::format("--{} does not apply to `hambrel tidy {}`", option, area), {},
                  "`hambrel help tidy` explains the options");
}

}  // namespace

int run_tidy(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string area = words.empty() ? "" : words[0];
  require_own_options(arguments, area);
  if (area.empty()) return overview(session);
  if (area == "unneeded") return tidy_unneeded(session, arguments);
  if (area == "configs") return tidy_configs(session, arguments);
  if (area == "cache") return tidy_cache(session, arguments);
  if (area == "attic") return tidy_attic(session, arguments);
  if (area == "builds") return tidy_builds(session, arguments);
  throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel tidy {}`", printable(area)), {},
              "use `hambrel tidy`, `tidy unneeded`, `tidy configs`, `tidy cache`, `tidy attic`, `tidy builds`");
}

}  // namespace hambrel::cli
