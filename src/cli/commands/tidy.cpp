// tidy: what could be freed, by area, and freeing it.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/tidy_builds.h"
#include "cli/show/ledger.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"
#include "operations/freeable.h"

namespace hambrel::cli {

namespace {

using operations::FreeableArea;
using Kind = FreeableArea::Kind;

/// How an area is called, what frees it, and what there is to say about that.
struct AreaText {
  const char *name, *command, *more;
};

AreaText text_of(Kind kind) {
  switch (kind) {
    case Kind::Unneeded: return {"unneeded", "hambrel tidy unneeded", ""};
    case Kind::Configs: return {"configs", "hambrel tidy configs", ""};
    case Kind::Cache: return {"cache", "hambrel tidy cache --all", "or --unavailable, --keep N, --older DAYS"};
    case Kind::Attic: return {"attic", "hambrel tidy attic --keep N", "fewer transactions can be undone"};
    case Kind::Checkpoints: return {"checkpoints", "hambrel checkpoint drop NAME", ""};
    case Kind::Prepared: return {"prepared", "hambrel activate --discard", ""};
  }
  return {};
}

std::string idle_text(std::size_t idle) {
  return count_text(idle, "pristine content", "pristine contents") + " no longer used";
}

std::string contents_of(const FreeableArea& area) {
  std::vector<std::string> parts;
  switch (area.kind) {
    case Kind::Unneeded: return "packages nothing wanted needs";
    case Kind::Checkpoints: return "saved configuration";
    case Kind::Prepared: return "waits for `hambrel activate`";
    case Kind::Attic:
      return area.undo_from ? fmt::format("undo as far back as transaction {}", number(*area.undo_from)) : "";
    case Kind::Configs:
      if (area.leftovers > 0)
        parts.push_back(count_text(area.leftovers, "leftover", "leftovers") + " of removed packages");
      if (area.idle > 0) parts.push_back(idle_text(area.idle));
      break;
    case Kind::Cache:
      parts.emplace_back("downloaded package files");
      if (area.unavailable > 0) parts.push_back(fmt::format("{} no repository offers", area.unavailable));
      if (area.rests > 0) parts.push_back(fmt::format("{} incomplete", area.rests));
      break;
  }
  return join(parts, ", ");
}

int overview(Session& session) {
  const Screen& screen = session.screen();
  if (!session.root().is_new()) session.tell_of_unusable_repositories();
  const auto areas = operations::freeable(session.root());
  Rows rows(session);
  Table ways;
  ByteCount free = 0;
  for (const FreeableArea& one : areas) {
    const auto [name, command, more] = text_of(one.kind);
    free += one.free;
    rows.add(
        [&, area = std::string(name)] {
          return Json{{"area", area}, {"count", one.count}, {"bytes", one.bytes}, {"free", one.free}};
        },
        {{name, Style::Name},
         {std::to_string(one.count), Style::Plain, true},
         {size_text(one.bytes), Style::Plain, true},
         {one.count == 0 ? "" : contents_of(one), Style::Faint}});
    if (one.free > 0)
      ways.row({{size_text(one.free), Style::Go, true}, {session.copyable(command)}, {more, Style::Faint}});
  }
  free += add_builds(session, rows, ways);
  rows.print("Nothing to tidy: nothing has been installed in this root yet.");
  if (session.json() || session.quiet() || rows.count() == 0) return 0;
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

// The cache.

std::string whence(Session& session, const operations::CachedFile& file) {
  if (file.rest) return "partial download";
  if (operations::is_installed(session.root(), file)) return "installed";
  return operations::is_offered(session.root(), file) ? "available" : "no repository offers it";
}

Json to_json(const operations::CacheProposal& proposal, const char* result) {
  Json list = Json::array();
  for (const auto& one : proposal.goes)
    list.push_back({{"name", one.name}, {"version", one.version}, {"arch", one.arch}, {"bytes", one.size}});
  return {{"cache", std::move(list)}, {"bytes", proposal.bytes}, {"result", result}};
}

void print(Session& session, const operations::CacheProposal& proposal) {
  const Screen& screen = session.screen();
  screen.line(screen.paint(Style::Strong, fmt::format("{} of {} in the cache will be dropped", proposal.goes.size(),
                                                      count_text(proposal.files, "file", "files"))) +
              fmt::format(", {}.", size_text(proposal.bytes)));
  screen.line();
  Table table;
  for (const auto& one : proposal.goes)
    table.row({{"drop", Style::Go},
               {one.name.empty() ? printable(std::string(os::name_of(one.path))) : one.name, Style::Name},
               {printable(one.version)},
               {time_text(one.time), Style::Faint},
               {whence(session, one), Style::Faint},
               {size_text(one.size), Style::Plain, true}});
  table.print(screen);
  screen.line();
  for (const auto& [id, titles] : proposal.last_copies)
    screen.remark(fmt::format("going back to before transaction {} will be impossible: {} exists nowhere else",
                              number(id), join(titles, ", ")));
  screen.line("  The system does not change. What a repository offers can be fetched again.");
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

// The attic.

Json to_json(const operations::AtticProposal& proposal, const char* result) {
  Json list = Json::array();
  for (const auto& one : proposal.attics) {
    Json& object = list.emplace_back(Json{{"id", number(one.attic.id)},
                                          {"bytes", one.attic.bytes.value_or(0)},
                                          {"time", utc_text(one.attic.time)},
                                          {"given_up", proposal.is_given_up(one)}});
    if (!one.needed_by.empty()) object["needed_by"] = one.needed_by;
  }
  return {{"attic", std::move(list)}, {"bytes", proposal.bytes}, {"result", result}};
}

void print_table(const Session& session, const operations::AtticProposal& proposal) {
  Table table;
  for (const auto& one : proposal.attics) {
    const bool goes = proposal.is_given_up(one), last = &one == &proposal.attics.back();
    std::string why = last ? "the latest" : "";
    if (!one.needed_by.empty()) why = "for " + one.needed_by;
    table.row({{goes ? "drop" : "keep", goes ? Style::Go : Style::Faint},
               {std::to_string(number(one.attic.id)), Style::Name, true},
               {time_text(one.attic.time), Style::Faint},
               {proposal.kinds.at(one.attic.id)},
               {size_of(one), Style::Plain, true},
               {why, Style::Faint}});
  }
  table.print(session.screen());
}

int tidy_attic(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
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
    screen.line(screen.paint(Style::Strong, fmt::format("{} of {} transactions will no longer be undoable",
                                                        proposal.goes.size(), proposal.attics.size())) +
                fmt::format("; frees {}.", size_text(proposal.bytes)));
    screen.line();
    print_table(session, proposal);
    screen.line();
    screen.remark(proposal.plan.notices[0].text());
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  const auto id = number(operations::give_up(session.changed(), proposal, arguments.value("reason").value_or("")));
  Json document = to_json(proposal, "done");
  document["transaction"] = id;
  session.say(document, fmt::format("\n{} as transaction {}: {} freed.", screen.paint(Style::Strong, "Done"), id,
                                    size_text(proposal.bytes)));
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
