// list: packages by condition, in any order, and what they take on the disk.
#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/listing.h"
#include "cli/show/package.h"
#include "operations/leftovers.h"
#include "operations/listed.h"

namespace hambrel::cli {

namespace {

/// What is shelved is not among what is installed: for itself.
int list_shelved(Session& session, const Arguments& arguments) {
  const state::State* const state = session.state();
  const auto shelved = state == nullptr ? std::vector<state::StatePackage>() : state->shelved();
  Table table;
  for (const state::StatePackage& one : shelved) {
    if (session.json())
      session.screen().line(canonical({{"name", one.package.name},
                                       {"version", one.package.version.text()},
                                       {"arch", one.package.arch},
                                       {"summary", one.package.summary},
                                       {"shelved", true},
                                       {"reason", text_of(one.reason)},
                                       {"installed_size", one.package.installed_size}}));
    else
      table.row({{one.package.name, Style::Name},
                 {one.package.version.text()},
                 {text_of(one.reason)},
                 {"shelved", Style::Warn},
                 {size_text(one.package.installed_size), Style::Plain, true},
                 {printable(one.package.summary), Style::Faint}});
  }
  table.print(session.screen());
  if (!session.json() && !session.quiet() && shelved.empty()) session.screen().line("Nothing is shelved.");
  return arguments.has("exit-code") && !shelved.empty() ? 10 : 0;
}

}  // namespace

namespace {

/// Packages that are gone and left edited configuration behind.
int list_leftover(Session& session, const Arguments& arguments) {
  std::map<std::string, std::vector<txn::ConfigFile>> by_package;
  for (txn::ConfigFile& one : operations::leftovers_of(session.root()))
    by_package[one.package.package.name].push_back(one);
  Table table;
  for (const auto& [name, files] : by_package) {
    const txn::ConfigFile& one = files.front();
    if (session.json())
      session.screen().line(canonical({{"name", name},
                                       {"version", one.package.package.version.text()},
                                       {"leftover", files.size()},
                                       {"left", number(one.left)}}));
    else
      table.row({{name, Style::Name},
                 {one.package.package.version.text()},
                 {count_text(files.size(), "file", "files")},
                 {fmt::format("since transaction {}", number(one.left)), Style::Faint},
                 {session.copyable("hambrel remove --purge " + name), Style::Faint}});
  }
  table.print(session.screen());
  if (!session.json() && !session.quiet() && by_package.empty())
    session.screen().line("No removed package left edited configuration behind.");
  return arguments.has("exit-code") && !by_package.empty() ? 10 : 0;
}

operations::Order order_of(const Arguments& arguments) {
  const std::string word = arguments.value("sort").value_or("name");
  if (word == "name") return operations::Order::Name;
  if (word == "size") return operations::Order::Size;
  if (word == "time") return operations::Order::Time;
  throw Error(ErrorCode::Usage, fmt::format("--sort {}: name, size or time was expected", printable(word)));
}

std::string some_of(std::vector<std::string> names) {
  constexpr std::size_t kMost = 3;
  const std::size_t more = names.size() > kMost ? names.size() - kMost : 0;
  names.resize(names.size() - more);
  return join(names, ", ") + (more > 0 ? fmt::format(" and {} more", more) : "");
}

/// "12 MiB", and with what; or why it can't go alone.
std::pair<std::string, std::string> freed_text(const operations::DiskUse::Of& use) {
  if (!use.alone()) return {"", "needed by " + some_of(use.needed_by)};
  return {"frees " + size_text(use.freed.bytes + use.cached), use.others.empty() ? "" : "with " + some_of(use.others)};
}

void print_sum(Session& session, const operations::DiskUse& use, const std::vector<PackageId>& installed) {
  const auto all = use.of(installed);
  const std::string who = installed.size() == 1 ? "it" : fmt::format("these {} together", installed.size());
  const auto say = [&](const std::string& text) {
    session.screen().line();
    if (output_is_terminal())
      session.screen().raw(wrapped(text, 0, terminal_width()));
    else
      session.screen().line(text);
  };
  if (!all.alone())
    return say(
        fmt::format("Removing {} would leave others without what they require: {}.", who, some_of(all.needed_by)));
  say(fmt::format("Removing {} would free {}: {} of files{}, and {} in the cache.", who,
                  size_text(all.freed.bytes + all.cached), size_text(all.freed.bytes),
                  all.others.empty() ? "" : fmt::format(", with {} that nothing needs then", some_of(all.others)),
                  size_text(all.cached)));
  session.screen().line(
      fmt::format("The files lie in the attic until it gives them up: `{}`.", session.copyable("hambrel tidy attic")));
}

/// "until 2030-01-31", "the gauge driver needs it"
std::string hold_text(const Hold& hold) {
  std::string text = fmt::format("since {} by {}", time_text(hold.since), hold.user);
  if (hold.until != 0) text += ", until " + utc_text(hold.until).substr(0, 10);
  return hold.reason.empty() ? text : text + ": " + hold.reason;
}

Json hold_json(const Hold& hold) {
  return {{"since", utc_text(hold.since)},
          {"until", hold.until == 0 ? Json() : Json(utc_text(hold.until))},
          {"user", hold.user},
          {"reason", hold.reason}};
}

}  // namespace

int run_list(Session& session, const Arguments& arguments) {
  if (arguments.words() == std::vector<std::string>{"shelved"}) return list_shelved(session, arguments);
  if (arguments.words() == std::vector<std::string>{"leftover"}) return list_leftover(session, arguments);
  const operations::Order order = order_of(arguments);
  session.tell_of_unusable_repositories();
  const bool plain =
      order == operations::Order::Name && !arguments.value("most") && !session.json() && !session.screen().color();
  if (plain && (arguments.words().empty() || arguments.words() == std::vector<std::string>{"installed"}))
    if (const auto kept = session.listing(); kept && !kept->text().empty()) {
      session.screen().raw(kept->text());
      return arguments.has("exit-code") ? 10 : 0;
    }
  const Universe& universe = session.universe();
  const operations::Conditions conditions(universe, arguments.words());
  const Screen& screen = session.screen();
  auto listed = conditions.candidates();
  std::erase_if(listed, [&](PackageId id) { return !conditions.lists(id); });
  operations::sort_by(universe, order, listed);
  const std::size_t count = listed.size();
  if (const auto most = arguments.number("most")) listed.resize(std::min<std::size_t>(count, *most));
  constexpr std::size_t kReckoned = 50;  // for more of them it would take a while
  std::vector<PackageId> installed;
  std::copy_if(listed.begin(), listed.end(), std::back_inserter(installed),
               [&](PackageId id) { return universe.is_installed(id); });
  const bool sizes = conditions.about_size() || order == operations::Order::Size;
  std::optional<operations::DiskUse> use;
  if (sizes && installed.size() <= kReckoned && !installed.empty()) use.emplace(session.root());
  Table table;
  table.expect(listed.size());
  for (const PackageId id : listed) {
    const bool here = universe.is_installed(id), wanted = universe.wanted(id);
    const auto freed = use && here ? std::optional(use->of({id})) : std::nullopt;
    if (session.json()) {
      Json object = brief_json(universe, id);
      if (freed)
        object["frees"] = {{"files", freed->freed.bytes},
                           {"cache", freed->cached},
                           {"with", freed->others},
                           {"needed_by", freed->needed_by}};
      if (here && universe[id].installed->hold) object["hold"] = hold_json(*universe[id].installed->hold);
      screen.line(canonical(object));
      continue;
    }
    if (conditions.about_holds() && here && universe[id].installed->hold) {
      const auto newer = universe.newer_offer(id);
      table.row({{universe.name(id), Style::Name},
                 {universe.version(id)},
                 {newer ? fmt::format("-> {} waits", universe.version(*newer)) : "nothing waits",
                  newer ? Style::Come : Style::Faint},
                 {printable(hold_text(*universe[id].installed->hold))}});
    } else if (sizes) {
      const auto [frees, note] = freed ? freed_text(*freed) : std::pair<std::string, std::string>();
      table.row({{universe.name(id), Style::Name},
                 {universe.version(id)},
                 {here ? text_of(wanted ? Reason::Wanted : Reason::PulledIn) : std::string_view(),
                  wanted ? Style::Plain : Style::Faint},
                 {size_text(universe.installed_size(id)), Style::Plain, true},
                 {frees, Style::Go, true},
                 {note, Style::Faint}});
    } else {
      add_listed(table, universe, id);
    }
  }
  table.print(screen);
  if (!session.json() && !session.quiet()) {
    if (count == 0)
      screen.line("Nothing meets these conditions.");
    else if (listed.size() < count)
      screen.line(fmt::format("  ... and {} more", count - listed.size()));
    if (use) print_sum(session, *use, installed);
  }
  return arguments.has("exit-code") && count > 0 ? 10 : 0;
}

}  // namespace hambrel::cli
