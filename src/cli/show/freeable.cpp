#include "cli/show/freeable.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/ledger.h"
#include "cli/show/rows.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

using operations::FreeableArea;
using Item = build::LeftByBuilds::Item;

std::string idle_text(std::size_t idle) {
  return count_text(idle, "pristine content", "pristine contents") + " no longer used";
}

namespace {

using AreaKind = FreeableArea::Kind;

/// How an area is called, what frees it, and what there is to say about that.
struct AreaText {
  const char *name, *command, *more;
};

AreaText text_of(AreaKind kind) {
  switch (kind) {
    case AreaKind::Unneeded: return {"unneeded", "hambrel tidy unneeded", ""};
    case AreaKind::Configs: return {"configs", "hambrel tidy configs", ""};
    case AreaKind::Cache: return {"cache", "hambrel tidy cache --all", "or --unavailable, --keep N, --older DAYS"};
    case AreaKind::Attic: return {"attic", "hambrel tidy attic --keep N", "fewer transactions can be undone"};
    case AreaKind::Checkpoints: return {"checkpoints", "hambrel checkpoint drop NAME", ""};
    case AreaKind::Prepared: return {"prepared", "hambrel activate --discard", ""};
  }
  return {};
}

std::string contents_of(const FreeableArea& area) {
  std::vector<std::string> parts;
  switch (area.kind) {
    case AreaKind::Unneeded: return "packages nothing wanted needs";
    case AreaKind::Checkpoints: return "saved configuration";
    case AreaKind::Prepared: return "waits for `hambrel activate`";
    case AreaKind::Attic:
      return area.undo_from ? fmt::format("undo as far back as transaction {}", number(*area.undo_from)) : "";
    case AreaKind::Configs:
      if (area.leftovers > 0)
        parts.push_back(count_text(area.leftovers, "leftover", "leftovers") + " of removed packages");
      if (area.idle > 0) parts.push_back(idle_text(area.idle));
      break;
    case AreaKind::Cache:
      parts.emplace_back("downloaded package files");
      if (area.unavailable > 0) parts.push_back(fmt::format("{} no repository offers", area.unavailable));
      if (area.rests > 0) parts.push_back(fmt::format("{} incomplete", area.rests));
      break;
  }
  return join(parts, ", ");
}

ByteCount bytes_of(const std::vector<Item>& items) {
  ByteCount bytes = 0;
  for (const Item& one : items) bytes += one.bytes;
  return bytes;
}

}  // namespace

void show(const Session& session, const std::vector<FreeableArea>& areas,
          const std::vector<build::LeftByBuilds::Item>& builds) {
  const Screen& screen = session.screen();
  Rows rows(session);
  Table ways;
  ByteCount free = 0;
  const auto add = [&](const char* name, std::size_t count, ByteCount bytes, ByteCount freed,
                       const std::string& contents) {
    free += freed;
    rows.add(
        [&] {
          return Json{{"area", name}, {"count", count}, {"bytes", bytes}, {"free", freed}};
        },
        {{name, Style::Name},
         {std::to_string(count), Style::Plain, true},
         {size_text(bytes), Style::Plain, true},
         {contents, Style::Faint}});
  };
  const auto add_way = [&](ByteCount freed, const char* command, const char* more) {
    if (freed > 0) ways.row({{size_text(freed), Style::Go, true}, {session.copyable(command)}, {more, Style::Faint}});
  };
  for (const FreeableArea& one : areas) {
    const auto [name, command, more] = text_of(one.kind);
    add(name, one.count, one.bytes, one.free, one.count == 0 ? "" : contents_of(one));
    add_way(one.free, command, more);
  }
  if (const ByteCount bytes = bytes_of(builds); !builds.empty()) {
    add("builds", builds.size(), bytes, bytes, "build roots, sources, kept builds, earlier packages, logs");
    add_way(bytes, "hambrel tidy builds", "");
  }
  rows.print("Nothing to tidy: nothing has been installed in this root yet.");
  if (session.json() || session.quiet() || rows.count() == 0) return;
  screen.line(free == 0 ? "\nNothing can be freed." : fmt::format("\nUp to {} can be freed:\n", size_text(free)));
  ways.print(screen);
}

namespace {

std::string whence(Session& session, const operations::CachedFile& file) {
  if (file.rest) return "partial download";
  if (operations::is_installed(session.root(), file)) return "installed";
  return operations::is_offered(session.root(), file) ? "available" : "no repository offers it";
}

}  // namespace

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

void print(const Session& session, const operations::AtticProposal& proposal) {
  const Screen& screen = session.screen();
  screen.line(screen.paint(Style::Strong, fmt::format("{} of {} transactions will no longer be undoable",
                                                      proposal.goes.size(), proposal.attics.size())) +
              fmt::format("; frees {}.", size_text(proposal.bytes)));
  screen.line();
  print_table(session, proposal);
  screen.line();
  screen.remark(proposal.plan.notices[0].text());
}

namespace {

const char* text_of(const Item& item) {
  switch (item.kind) {
    case Item::Kind::Build: return item.interrupted ? "interrupted build" : "kept build";
    case Item::Kind::Root: return "build root";
    case Item::Kind::Source: return "source";
    case Item::Kind::Recipe: return "recipe";
    case Item::Kind::Made: return "earlier package";
    case Item::Kind::Log: return "log";
  }
  return "";
}

/// Digests are long: the beginning tells them apart.
std::string name_of(const Item& item) {
  constexpr std::size_t kEnough = 12;
  std::string name = item.path.substr(item.path.rfind('/') + 1);
  const bool is_digest =
      item.kind == Item::Kind::Root || item.kind == Item::Kind::Source || item.kind == Item::Kind::Recipe;
  return printable(is_digest && name.size() > kEnough ? name.substr(0, kEnough) : name);
}

}  // namespace

Json to_json(const std::vector<Item>& items, const char* result) {
  Json list = Json::array();
  for (const Item& one : items) list.push_back({{"kind", text_of(one)}, {"path", one.path}, {"bytes", one.bytes}});
  return {{"builds", std::move(list)}, {"bytes", bytes_of(items)}, {"result", result}};
}

void print(const Session& session, const build::LeftByBuilds& left, const std::string& place) {
  const Screen& screen = session.screen();
  screen.line(screen.paint(Style::Strong, fmt::format("{} will be dropped, {}.",
                                                      count_text(left.items.size(), "thing that builds left",
                                                                 "things that builds left"),
                                                      size_text(bytes_of(left.items)))) +
              printable("  in " + place));
  screen.line();
  Table table;
  for (const Item& one : left.items)
    table.row(
        {{"drop", Style::Go}, {text_of(one)}, {name_of(one), Style::Name}, {size_text(one.bytes), Style::Plain, true}});
  table.print(screen);
  screen.line();
  if (left.busy) screen.remark("a build is under way: the roots and sources that it may use stay");
}

}  // namespace hambrel::cli
