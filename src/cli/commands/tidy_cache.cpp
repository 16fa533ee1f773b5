#include "cli/commands/tidy_cache.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "operations/keeping.h"

namespace hambrel::cli {

namespace {

std::string whence(Session& session, const repo::CachedFile& file) {
  if (file.rest) return "rest of a transfer";
  const auto& universe = session.universe();
  for (const PackageId id : universe.versions_of(file.name))
    if (universe.version(id) == file.version && universe.architecture(id) == file.arch && universe.is_installed(id))
      return "installed";
  return operations::is_offered(session.root(), file) ? "on offer" : "no repository offers it";
}

}  // namespace

int tidy_cache(Session& session, const Arguments& arguments) {
  const bool dry = arguments.has("dry-run");
  if (!dry) session.change(arguments);
  session.tell_of_unusable_repositories();
  const Screen& screen = session.screen();
  operations::CacheRequest request;
  request.limits.versions = arguments.number("keep");
  request.limits.days = arguments.number("older");
  request.all = arguments.has("all");
  request.unavailable = arguments.has("unavailable");
  const auto proposal = operations::propose_dropping(session.root(), request);
  Json list = Json::array();
  Table table;
  for (const repo::CachedFile& one : proposal.goes) {
    list.push_back({{"name", one.name}, {"version", one.version}, {"arch", one.arch}, {"bytes", one.size}});
    table.row({{"drop", Style::Go},
               {one.name.empty() ? printable(std::string(os::name_of(one.path))) : one.name, Style::Name},
               {printable(one.version)},
               {time_text(one.time), Style::Faint},
               {whence(session, one), Style::Faint},
               {size_text(one.size), Style::Plain, true}});
  }
  const auto answer = [&](const char* result) {
    screen.line(canonical({{"cache", list}, {"bytes", proposal.bytes}, {"result", result}}));
  };
  if (proposal.goes.empty()) {
    if (session.json()) answer("nothing to do");
    if (!session.json() && !session.quiet())
      screen.line(proposal.files == 0
                      ? "Nothing to do: the cache is empty."
                      : fmt::format("Nothing to do: {}, and none is beyond the limits. --all, --unavailable, "
                                    "--keep N and --older DAYS say otherwise.",
                                    count_text(proposal.files, "file lies there", "files lie there")));
    return 0;
  }
  if (session.json() && dry) answer("dry run");
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) {
    screen.line(fmt::format("{} {} of {} in the cache to drop, {}", screen.paint(Style::Strong, "Plan:"),
                            proposal.goes.size(), count_text(proposal.files, "file", "files"),
                            size_text(proposal.bytes)));
    screen.line();
    table.print(screen);
    screen.line();
    for (const auto& [id, titles] : proposal.last_copies)
      screen.remark(fmt::format("no way back then to what was before transaction {}: {} lies nowhere else", number(id),
                                join(titles, ", ")));
    screen.line("  Nothing of the system changes. What a repository offers can be fetched again.");
  }
  if (dry) return 0;
  ask_consent(session, arguments);
  operations::drop(session.changed(), proposal);
  if (session.json())
    answer("done");
  else if (!session.quiet())
    screen.line(fmt::format("\n{}: {} freed.", screen.paint(Style::Strong, "Done"), size_text(proposal.bytes)));
  return 0;
}

}  // namespace hambrel::cli
