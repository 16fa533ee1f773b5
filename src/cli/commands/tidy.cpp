// tidy: what could be freed, by area, and freeing it.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/tidy_attic.h"
#include "cli/commands/tidy_cache.h"
#include "cli/show/plan.h"
#include "operations/leftovers.h"
#include "os/host.h"
#include "solve/solver.h"

namespace hambrel::cli {

namespace {

struct Area {
  std::string name, holds, command;
  std::size_t count = 0;
  ByteCount bytes = 0;  // what it takes
  ByteCount free = 0;   // what the command can free of that, at most
  std::string more{};   // about the command
};

Area unneeded_area(Session& session) {
  const Universe& universe = session.universe();
  Area area{"unneeded", "packages that nothing wanted needs", "hambrel tidy unneeded"};
  for (const PackageId id : solve::unneeded_of(universe, universe.installed())) {
    if (universe.held(id)) continue;
    ++area.count;
    area.bytes += universe.installed_size(id);
  }
  area.free = area.bytes;
  return area;
}

/// What `tidy configs` is about.
struct Remains {
  std::vector<txn::ConfigFile> leftovers;
  operations::IdlePristine idle;

  ByteCount idle_bytes() const {
    ByteCount bytes = 0;
    for (const auto& [place, size] : idle) bytes += size;
    return bytes;
  }
  std::string idle_text() const {
    return count_text(idle.size(), "pristine content", "pristine contents") + " that nothing began from any more";
  }
};

Remains remains_of(Session& session) {
  return {operations::leftovers_of(session.root()), operations::idle_pristine(session.root())};
}

Area configs_area(Session& session) {
  const Remains remains = remains_of(session);
  Area area{"configs", "", "hambrel tidy configs", remains.leftovers.size() + remains.idle.size(),
            remains.idle_bytes()};
  for (const txn::ConfigFile& one : remains.leftovers)
    if (const auto info = session.files().stat(one.path)) area.bytes += info->size;
  std::vector<std::string> kinds;
  if (!remains.leftovers.empty())
    kinds.push_back(count_text(remains.leftovers.size(), "leftover", "leftovers") + " of removed packages");
  if (!remains.idle.empty()) kinds.push_back(remains.idle_text());
  area.holds = join(kinds, ", ");
  area.free = area.bytes;
  return area;
}

Area cache_area(Session& session) {
  Area area{"cache", "package files that were fetched", "hambrel tidy cache --all"};
  area.more = "or --unavailable, --keep N, --older DAYS";
  std::size_t unavailable = 0, rests = 0;
  for (const repo::CachedFile& one : repo::cached_files(session.files())) {
    ++area.count;
    area.bytes += one.size;
    rests += one.rest ? 1 : 0;
    unavailable += one.rest || operations::is_offered(session.root(), one) ? 0 : 1;
  }
  if (unavailable > 0) area.holds += fmt::format(", {} that no repository offers", unavailable);
  if (rests > 0) area.holds += fmt::format(", {} not whole yet", rests);
  area.free = area.bytes;
  return area;
}

Area attic_area(Session& session) {
  const auto attics = operations::standing_attics(session.root());
  Area area{"attic", "nothing can be taken back", "hambrel tidy attic --keep N"};
  area.more = "the way back gets shorter";
  for (const txn::StandingAttic& one : attics) area.count += 1, area.bytes += one.attic.bytes.value_or(0);
  const auto all = txn::over_limits({0, {}, {}}, attics, 0);
  for (const txn::StandingAttic& one : attics)
    if (std::find(all.begin(), all.end(), one.attic.id) != all.end()) area.free += one.attic.bytes.value_or(0);
  if (!attics.empty()) area.holds = fmt::format("undo back to transaction {}", number(attics.front().attic.id));
  return area;
}

Area checkpoint_area(const state::State& state) {
  Area area{"checkpoints", "configuration of named moments", "hambrel checkpoint drop NAME"};
  for (const state::Checkpoint& one : state.checkpoints()) {
    ++area.count;
    for (const state::CheckpointFile& file : one.files) area.bytes += file.size;
  }
  area.free = area.bytes;
  return area;
}

int overview(Session& session) {
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
  std::vector<Area> areas;
  if (state != nullptr) {
    session.tell_of_unusable_repositories();
    areas = {unneeded_area(session), configs_area(session), cache_area(session), attic_area(session),
             checkpoint_area(*state)};
    if (const auto prepared = state->prepared())
      areas.push_back({"prepared", "waits for `hambrel activate`", "hambrel activate --discard", 1, prepared->staged,
                       prepared->staged});
  }
  Table table, ways;
  ByteCount free = 0;
  for (const Area& one : areas) {
    free += one.free;
    if (session.json()) {
      screen.line(canonical({{"area", one.name}, {"count", one.count}, {"bytes", one.bytes}, {"free", one.free}}));
      continue;
    }
    table.row({{one.name, Style::Name},
               {std::to_string(one.count), Style::Plain, true},
               {size_text(one.bytes), Style::Plain, true},
               {one.count == 0 ? "" : one.holds, Style::Faint}});
    if (one.free > 0)
      ways.row({{size_text(one.free), Style::Go, true}, {session.copyable(one.command)}, {one.more, Style::Faint}});
  }
  table.print(screen);
  if (session.json() || session.quiet()) return 0;
  if (areas.empty()) {
    screen.line("Nothing to tidy: nothing was installed in this root yet.");
    return 0;
  }
  screen.line(free == 0 ? "\nNothing can be freed." : fmt::format("\nUp to {} can be freed:\n", size_text(free)));
  ways.print(screen);
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
  const Remains remains = remains_of(session);
  const bool told = !session.json() && !session.quiet(), dry = arguments.has("dry-run");
  if (remains.leftovers.empty() && remains.idle.empty()) {
    if (session.json()) screen.line(canonical({{"result", "nothing to do"}}));
    if (told) screen.line("Nothing to do: no removed package left edited configuration behind.");
    return 0;
  }
  const std::string idle = fmt::format("{}, {}", remains.idle_text(), size_text(remains.idle_bytes()));
  if (!remains.leftovers.empty()) {
    if (told && !remains.idle.empty()) screen.remark("dropped as well, for good: " + idle);
    carry_out(session, arguments,
              operations::propose_purge(session.root(), remains.leftovers, planned_terms(arguments)));
  } else {
    if (told) screen.line(fmt::format("{} to drop {}", screen.paint(Style::Strong, "Plan:"), idle));
    if (!dry) ask_consent(session, arguments);
  }
  if (!dry) operations::drop(session.changed(), remains.idle);
  if (!remains.leftovers.empty()) return 0;  // purge_leftovers() has told the outcome
  if (session.json())
    screen.line(canonical(
        {{"pristine", remains.idle.size()}, {"bytes", remains.idle_bytes()}, {"result", dry ? "dry run" : "done"}}));
  if (told && !dry)
    screen.line(fmt::format("\n{}: {} freed.", screen.paint(Style::Strong, "Done"), size_text(remains.idle_bytes())));
  return 0;
}

/// Options that belong to one area only.
void require_own_options(const Arguments& arguments, const std::string& area) {
  static const std::vector<std::pair<const char*, std::set<std::string>>> kOwn{
      {"strict", {"unneeded"}}, {"keep", {"attic", "cache"}}, {"older", {"attic", "cache"}},
      {"all", {"cache"}},       {"unavailable", {"cache"}},   {"reason", {"unneeded", "configs", "attic"}}};
  for (const auto& [option, areas] : kOwn)
    if (arguments.has(option) && !areas.contains(area))
      throw Error(ErrorCode::Usage, fmt::format("--{} is not for `hambrel tidy {}`", option, area), {},
                  "`hambrel help tidy` tells which option is for what");
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
  throw Error(ErrorCode::Usage, fmt::format("`hambrel tidy {}` is not known", printable(area)), {},
              "there are `hambrel tidy`, and `tidy unneeded`, `configs`, `cache` and `attic`");
}

}  // namespace hambrel::cli
