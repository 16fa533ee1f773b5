#include "cli/show/group.h"

#include <fmt/format.h>

#include "base/amounts.h"
#include "base/json.h"
#include "base/text.h"
#include "cli/show/rows.h"

namespace hambrel::cli {

using operations::Group;
using operations::GroupMember;

namespace {

Json group_to_json(const Group& group) {
  Json members = Json::array();
  for (const GroupMember& one : group.members)
    members.push_back({{"name", one.name},
                       {"optional", one.optional},
                       {"installed", one.installed},
                       {"available", one.available},
                       {"installed_size", one.size}});
  return {{"group", group.name},          {"summary", group.summary},     {"version", group.version},
          {"origin", group.origin},       {"installed", group.installed}, {"with_optional", group.with_optional},
          {"members", std::move(members)}};
}

std::string state_of(const Group& group) {
  if (group.installed) return group.with_optional ? "installed, with optional members" : "installed";
  const std::size_t installed = group.count_installed();
  return installed == 0 ? "" : fmt::format("{} of {} installed", installed, group.members.size());
}

}  // namespace

void show(const Session& session, const std::vector<Group>& groups) {
  Rows rows(session);
  for (const Group& group : groups)
    rows.add([&] { return group_to_json(group); }, {{"group:" + group.name, Style::Name},
                                                    {count_text(group.members.size(), "member", "members")},
                                                    {state_of(group)},
                                                    {printable(group.summary), Style::Faint}});
  rows.print("No repository has groups.");
}

namespace {

void print_members(const Session& session, const Group& group, bool optional) {
  if (group.count(optional) == 0) return;
  session.screen().line();
  session.screen().line(optional ? "optional members" : "members");
  Table table;
  for (const GroupMember& one : group.members) {
    if (one.optional != optional) continue;
    table.row(
        {{one.installed ? "*" : " ", Style::Come},
         {one.name, Style::Name},
         {one.available ? size_text(one.size) : "not available", one.available ? Style::Plain : Style::Warn, true},
         {printable(one.summary), Style::Faint}});
  }
  table.print(session.screen());
}

}  // namespace

void show(const Session& session, const Group& group) {
  if (session.json()) return session.document(group_to_json(group));
  const Screen& screen = session.screen();
  screen.line(fmt::format("{}  {}", screen.paint(Style::Strong, "group:" + group.name), printable(group.summary)));
  if (!group.description.empty()) screen.line(printable(group.description));
  screen.field("state", group.installed || group.count_installed() > 0 ? state_of(group) : "not installed");
  screen.field("from", fmt::format("{}, version {}", group.origin, group.version));
  ByteCount all = 0, missing = 0;
  for (const GroupMember& one : group.members) {
    all += one.size;
    if (!one.installed) missing += one.size;
  }
  screen.field("size", missing == all
                           ? size_text(all)
                           : fmt::format("{}, of which {} are not installed", size_text(all), size_text(missing)));
  print_members(session, group, false);
  print_members(session, group, true);
  if (!group.installed) {
    screen.line();
    const std::string optional = group.count(true) > 0 ? "; --optional adds the optional ones" : "";
    screen.hint(
        fmt::format("{} installs the members{}", session.copyable("hambrel install group:" + group.name), optional));
  }
}

}  // namespace hambrel::cli
