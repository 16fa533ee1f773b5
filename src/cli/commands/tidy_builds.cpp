#include "cli/commands/tidy_builds.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "build/from_source.h"
#include "build/workshop.h"
#include "cli/carry.h"

namespace hambrel::cli {

namespace {

using Item = build::LeftByBuilds::Item;

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

ByteCount bytes_of(const std::vector<Item>& items) {
  ByteCount bytes = 0;
  for (const Item& one : items) bytes += one.bytes;
  return bytes;
}

Json to_json(const std::vector<Item>& items, const char* result) {
  Json list = Json::array();
  for (const Item& one : items) list.push_back({{"kind", text_of(one)}, {"path", one.path}, {"bytes", one.bytes}});
  return {{"builds", std::move(list)}, {"bytes", bytes_of(items)}, {"result", result}};
}

build::LeftByBuilds left_in(Session& session, build::Workshop& workshop) {
  build::LeftByBuilds left = build::left_in(workshop);
  if (!left.busy)
    for (Item& one : build::earlier_made(session.root(), workshop)) left.items.push_back(std::move(one));
  return left;
}

}  // namespace

ByteCount add_builds(Session& session, Rows& rows, Table& ways) {
  const auto workshop = build::Workshop::find(session.root());
  if (!workshop) return 0;
  const build::LeftByBuilds left = left_in(session, *workshop);
  const ByteCount bytes = bytes_of(left.items);
  if (left.items.empty()) return 0;
  rows.add(
      [&] {
        return Json{{"area", "builds"}, {"count", left.items.size()}, {"bytes", bytes}, {"free", bytes}};
      },
      {{"builds", Style::Name},
       {std::to_string(left.items.size()), Style::Plain, true},
       {size_text(bytes), Style::Plain, true},
       {"build roots, sources, kept builds, earlier packages, logs", Style::Faint}});
  ways.row({{size_text(bytes), Style::Go, true}, {session.copyable("hambrel tidy builds")}, {"", Style::Faint}});
  return bytes;
}

int tidy_builds(Session& session, const Arguments& arguments) {
  const auto workshop = build::Workshop::find(session.root());
  const build::LeftByBuilds left = workshop ? left_in(session, *workshop) : build::LeftByBuilds{};
  if (left.items.empty()) {
    session.say(to_json({}, "nothing to do"), left.busy ? "Nothing to do: a build is under way, and uses what is there."
                                                        : "Nothing to do: no build has left anything.");
    return 0;
  }
  const auto show_it = [&] {
    if (session.json()) return session.document(to_json(left.items, "dry run"));
    const Screen& screen = session.screen();
    screen.line(screen.paint(Style::Strong, fmt::format("{} will be dropped, {}.",
                                                        count_text(left.items.size(), "thing that builds left",
                                                                   "things that builds left"),
                                                        size_text(bytes_of(left.items)))) +
                printable("  in " + workshop->path()));
    screen.line();
    Table table;
    for (const Item& one : left.items)
      table.row({{"drop", Style::Go},
                 {text_of(one)},
                 {name_of(one), Style::Name},
                 {size_text(one.bytes), Style::Plain, true}});
    table.print(screen);
    screen.line();
    if (left.busy) screen.remark("a build is under way: the roots and sources that it may use stay");
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  const ByteCount freed = build::clear(*workshop, left.items);
  session.say(to_json(left.items, "done"),
              fmt::format("\n{}: {} freed.", session.screen().paint(Style::Strong, "Done"), size_text(freed)));
  return 0;
}

}  // namespace hambrel::cli
