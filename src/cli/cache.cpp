#include "cli/cache.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "base/json.h"
#include "base/text.h"
#include "cli/plan_view.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

/// By transaction: versions that left with it and can be had from this file only.
using LastCopies = std::map<state::TxnId, std::vector<std::string>>;

LastCopies last_copies(Session& session, const std::vector<repo::CachedFile>& files) {
  LastCopies result;
  const state::State* const state = session.state();
  if (state == nullptr) return result;
  std::set<state::TxnId> standing;
  for (const state::Attic& one : state->attics()) standing.insert(one.id);
  for (const state::Replaced& one : state->replaced()) {
    const Package& package = one.package.package;
    const auto file = std::find_if(files.begin(), files.end(), [&](const repo::CachedFile& other) {
      return !other.rest && other.name == package.name && other.version == package.version.text() &&
             other.arch == package.arch;
    });
    if (file != files.end() && !standing.contains(one.left) && !operations::is_offered(session.root(), *file))
      result[one.left].push_back(package.title());
  }
  return result;
}

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
  if (!arguments.has("dry-run")) session.change(arguments);
  session.tell_of_unusable_repositories();
  const Screen& screen = session.screen();
  const auto files = repo::cached_files(session.files());
  repo::CacheLimits limits{arguments.number("keep"), arguments.number("older"), {}};
  const bool all = arguments.has("all"), unavailable = arguments.has("unavailable");
  if (!limits.versions && !limits.days && !all && !unavailable) limits = repo::cache_limits_of(session.settings());
  const auto go = repo::beyond(limits, files, os::now(), [&](const repo::CachedFile& one) {
    return all || (unavailable && !operations::is_offered(session.root(), one));
  });
  ByteCount bytes = 0;
  Json list = Json::array();
  Table table;
  for (const repo::CachedFile& one : go) {
    bytes += one.size;
    list.push_back({{"name", one.name}, {"version", one.version}, {"arch", one.arch}, {"bytes", one.size}});
    table.row({{"drop", Style::Go},
               {one.name.empty() ? printable(std::string(os::name_of(one.path))) : one.name, Style::Name},
               {printable(one.version)},
               {time_text(one.time), Style::Faint},
               {whence(session, one), Style::Faint},
               {size_text(one.size), Style::Plain, true}});
  }
  const auto answer = [&](const char* result) { return Json{{"cache", list}, {"bytes", bytes}, {"result", result}}; };
  if (go.empty()) {
    if (session.json()) return screen.line(canonical(answer("nothing to do"))), 0;
    if (!session.quiet())
      screen.line(files.empty() ? "Nothing to do: the cache is empty."
                                : fmt::format("Nothing to do: {}, and none is beyond the limits. --all, --unavailable, "
                                              "--keep N and --older DAYS say otherwise.",
                                              count_text(files.size(), "file lies there", "files lie there")));
    return 0;
  }
  const bool dry = arguments.has("dry-run");
  if (session.json() && dry) screen.line(canonical(answer("dry run")));
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) {
    screen.line(fmt::format("{} {} of {} in the cache to drop, {}", screen.paint(Style::Strong, "Plan:"), go.size(),
                            count_text(files.size(), "file", "files"), size_text(bytes)));
    screen.line();
    table.print(screen);
    screen.line();
    for (const auto& [id, titles] : last_copies(session, go))
      screen.remark(fmt::format("no way back then to what was before transaction {}: {} lies nowhere else", number(id),
                                join(titles, ", ")));
    screen.line("  Nothing of the system changes. What a repository offers can be fetched again.");
  }
  if (dry) return 0;
  ask_consent(session, arguments);
  repo::drop_cached(session.files(), go);
  if (session.json())
    screen.line(canonical(answer("done")));
  else if (!session.quiet())
    screen.line(fmt::format("\n{}: {} freed.", screen.paint(Style::Strong, "Done"), size_text(bytes)));
  return 0;
}

}  // namespace hambrel::cli
