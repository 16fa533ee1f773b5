#include "report/pages.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/amounts.h"
#include "base/text.h"
#include "report/figures.h"
#include "report/plan_parts.h"

namespace hambrel::report {

namespace {

using Kind = Cell::Kind;

constexpr std::size_t kMostRows = 25;

/// The first rows, and how many more there are and where.
template <typename List, typename Make>
PageTable table_of(std::vector<Column> columns, const List& list, const std::string& command, const Make& make,
                   std::size_t most = kMostRows) {
  PageTable table;
  table.columns = std::move(columns);
  for (const auto& one : list) {
    if (table.rows.size() == most) break;
    table.rows.push_back(make(one));
  }
  if (list.size() > most) table.more = fmt::format("{} more: {}", list.size() - most, command);
  return table;
}

std::string foot_of(std::int64_t now) {
  return fmt::format("Made by hambrel {} on {}. Nothing was changed for it.", HAMBREL_VERSION, time_text(now));
}

std::string system_name(const Facts& facts) { return facts.host.empty() ? facts.root : facts.host; }

// Tiles

Tile upgrades_tile(const Facts& facts) {
  std::size_t held = 0, fixes = 0;
  for (const UpgradeFact& one : facts.upgrades) {
    held += one.is_held ? 1 : 0;
    fixes += one.fixes.empty() ? 0 : 1;
  }
  std::vector<std::string> more;
  if (fixes > 0) more.push_back(fmt::format("{} for security", fixes));
  if (held > 0) more.push_back(fmt::format("{} held", held));
  const Mood otherwise = facts.upgrades.empty() ? Mood::Good : Mood::Look;
  return {"upgrades waiting", std::to_string(facts.upgrades.size()), join(more, ", "),
          fixes > 0 ? Mood::Bad : otherwise};
}

Tile verified_tile(const Facts& facts) {
  if (!facts.verified && facts.packages.empty()) return {"last verify", "never", "nothing is installed"};
  if (!facts.verified) return {"last verify", "never", facts.copyable("hambrel verify"), Mood::Look};
  const auto& verified = *facts.verified;
  return {"last verify", age_text(facts.now, verified.time),
          verified.damaged == 0 ? fmt::format("{}, no damage{}", count_text(verified.files, "file", "files"),
                                              verified.is_fast ? " (fast)" : "")
                                : fmt::format("{} damaged: {}", count_text(verified.damaged, "file", "files"),
                                              facts.copyable("hambrel repair")),
          verified.damaged == 0 ? Mood::Good : Mood::Bad};
}

Tile ledger_tile(const Facts& facts) {
  const auto undoable = std::count_if(facts.transactions.begin(), facts.transactions.end(),
                                      [](const TransactionFact& one) { return one.attic.has_value(); });
  return {"transactions", std::to_string(facts.transactions.size()),
          facts.transactions.empty() ? "" : fmt::format("{} can be undone", undoable)};
}

Tile configs_tile(const Facts& facts) {
  const auto waiting = std::count_if(facts.configs.begin(), facts.configs.end(),
                                     [](const ConfigFact& one) { return one.state == "waiting"; });
  return {"configuration waiting", std::to_string(waiting),
          fmt::format("{} of {} edited, missing or left over", facts.configs.size(),
                      count_text(facts.configs_in_all, "file", "files")),
          waiting > 0 ? Mood::Look : Mood::Good};
}

Tile due_tile(const Facts& facts) {
  const std::size_t due = facts.services_due.size() + facts.programs_due.size();
  return {"due", std::to_string(due), "services and programs of packages", due > 0 ? Mood::Look : Mood::Good};
}

std::vector<Tile> tiles_of(const Facts& facts) {
  return {
      {"packages", std::to_string(facts.packages.size()),
       fmt::format("{} wanted, {} pulled in", facts.wanted(), facts.packages.size() - facts.wanted())},
      {"disk use", size_text(facts.bytes), count_text(facts.files, "file", "files")},
      upgrades_tile(facts),
      {"can be freed", size_text(facts.to_be_freed()), facts.to_be_freed() > 0 ? facts.copyable("hambrel tidy") : ""},
      ledger_tile(facts),
      verified_tile(facts),
      configs_tile(facts),
      due_tile(facts)};
}

// Sections

void add_figure(Section& section, Figure figure) {
  if (!figure.empty()) section.figures.push_back(std::move(figure));
}

Section upgrades_section(const Facts& facts) {
  Section section{"upgrades", "Upgrades"};
  if (facts.upgrades.empty()) {
    section.text = "Nothing installed has a newer version in the channels that are followed.";
    return section;
  }
  add_figure(section, upgrades_figure(facts));
  auto all = facts.upgrades;
  std::stable_sort(all.begin(), all.end(), [](const UpgradeFact& a, const UpgradeFact& b) {
    if (a.fixes.empty() != b.fixes.empty()) return !a.fixes.empty();
    return a.since < b.since;
  });
  section.tables.push_back(table_of(
      {{"package"}, {"installed"}, {"available"}, {"from"}, {"since"}, {"worth knowing"}}, all,
      facts.copyable("hambrel list upgradable"), [&](const UpgradeFact& one) -> std::vector<Cell> {
        std::string held;
        if (one.is_held) held = one.why.empty() ? "held" : "held: " + one.why;
        return {{one.name, Kind::Name},
                {one.from},
                {one.to},
                {one.origin, Kind::Faint},
                {age_text(facts.now, one.since)},
                {one.fixes.empty() ? held : join(one.fixes, "; "), one.fixes.empty() ? Kind::Plain : Kind::Bad}};
      }));
  return section;
}

Section disk_section(const Facts& facts) {
  Section section{"disk", "Disk use"};
  if (facts.packages.empty()) {
    section.text = "Nothing is installed.";
    return section;
  }
  add_figure(section, disk_figure(facts));
  std::vector<const InstalledFact*> largest;
  for (const InstalledFact& one : facts.packages) largest.push_back(&one);
  std::stable_sort(largest.begin(), largest.end(),
                   [](const InstalledFact* a, const InstalledFact* b) { return a->bytes > b->bytes; });
  constexpr std::size_t kMostLargest = 12;
  section.tables.push_back(table_of(
      {{"package"}, {"version"}, {"category"}, {"why"}, {"size", true}, {"removing it frees", true}}, largest,
      facts.copyable("hambrel list --sort size"),
      [](const InstalledFact* one) -> std::vector<Cell> {
        const char* why = one->is_wanted ? "wanted" : "pulled in";
        if (one->is_unneeded) why = "unneeded";
        return {{one->name, Kind::Name},
                {one->version},
                {one->category, Kind::Faint},
                {why, one->is_unneeded ? Kind::Look : Kind::Plain},
                {size_text(one->bytes), Kind::Number},
                {one->needed_by > 0
                     ? fmt::format("{} it", one->needed_by == 1 ? "1 needs" : fmt::format("{} need", one->needed_by))
                     : size_text(one->freed),
                 Kind::Number}};
      },
      kMostLargest));
  section.tables.back().title = "The largest";
  return section;
}

Section space_section(const Facts& facts) {
  Section section{"space", "Space, and what the way back costs"};
  add_figure(section, space_figure(facts));
  add_figure(section, way_back_figure(facts));
  std::vector<SpaceFact> used;
  for (const SpaceFact& one : facts.space)
    if (one.bytes > 0) used.push_back(one);
  if (used.empty()) section.text = "Nothing lies beside the installed packages.";
  if (!used.empty())
    section.tables.push_back(table_of({{"area"}, {"count", true}, {"takes", true}, {"can be freed", true}, {"by"}},
                                      used, "", [](const SpaceFact& one) -> std::vector<Cell> {
                                        return {{one.area, Kind::Name},
                                                {std::to_string(one.count), Kind::Number},
                                                {size_text(one.bytes), Kind::Number},
                                                {size_text(one.free), Kind::Number},
                                                {one.free > 0 ? one.command : "", Kind::Code}};
                                      }));
  return section;
}

std::vector<Cell> transaction_row(const TransactionFact& one) {
  std::vector<std::string> changes;
  const auto add = [&](std::size_t count, const char* word) {
    if (count > 0) changes.push_back(fmt::format("{} {}", count, word));
  };
  add(one.installed, "installed");
  add(one.upgraded, "upgraded");
  add(one.downgraded, "downgraded");
  add(one.removed, "removed");
  add(one.other, "marked or repaired");
  std::string result = one.result;
  if (one.undone_by) result = fmt::format("undone by {}", *one.undone_by);
  if (one.undoes) result = fmt::format("back from {}", *one.undoes);
  if (one.undoes && one.kind == "rollback") result = fmt::format("back to {}", *one.undoes);
  Kind kind = one.undone_by ? Kind::Faint : Kind::Plain;
  if (!one.is_done()) kind = Kind::Bad;
  return {{std::to_string(one.id), Kind::Number},
          {time_text(one.ended)},
          {one.kind, Kind::Name},
          {one.user},
          {join(changes, ", ")},
          {one.size_change == 0 ? "" : change_text(one.size_change), Kind::Number},
          {result, kind},
          {one.problem.empty() ? one.note : one.problem, one.problem.empty() ? Kind::Faint : Kind::Bad}};
}

Section record_section(const Facts& facts, std::size_t most) {
  Section section{"record", "Transactions"};
  if (facts.transactions.empty()) {
    section.text = "Nothing was changed yet.";
    return section;
  }
  add_figure(section, timeline_figure(facts));
  const std::vector<TransactionFact> newest_first(facts.transactions.rbegin(), facts.transactions.rend());
  section.tables.push_back(table_of(
      {{"number", true}, {"time"}, {"kind"}, {"by"}, {"packages"}, {"disk", true}, {"result"}, {"reason or problem"}},
      newest_first, facts.copyable("hambrel ledger"), transaction_row, most));
  if (!facts.checkpoints.empty()) {
    section.tables.push_back(table_of({{"checkpoint"}, {"after", true}, {"time"}, {"attic keeps", true}, {"note"}},
                                      facts.checkpoints, facts.copyable("hambrel checkpoint list"),
                                      [](const CheckpointFact& one) -> std::vector<Cell> {
                                        return {{one.name, Kind::Name},
                                                {std::to_string(one.after), Kind::Number},
                                                {time_text(one.time)},
                                                {size_text(one.attic), Kind::Number},
                                                {one.note, Kind::Faint}};
                                      }));
    section.tables.back().title = "Checkpoints";
  }
  return section;
}

Section sources_section(const Facts& facts) {
  Section section{"sources", "Repositories"};
  if (facts.sources.empty()) {
    section.text = "There are no repositories.";
    return section;
  }
  constexpr std::int64_t kSoon = 7LL * 24 * 60 * 60, kOld = 30LL * 24 * 60 * 60;  // seconds
  section.tables.push_back(table_of(
      {{"repository"}, {"URL"}, {"trust"}, {"keys"}, {"expires"}, {"index"}, {"installed", true}, {"offers", true}},
      facts.sources, facts.copyable("hambrel repo list"), [&](const SourceFact& one) -> std::vector<Cell> {
        constexpr std::size_t kKey = 8;
        std::vector<std::string> keys;
        for (const std::string& key : one.keys) keys.push_back(key.substr(0, kKey));
        const bool is_short = one.expires != 0 && one.expires < facts.now + kSoon;
        const bool is_old = one.fetched != 0 && one.fetched < facts.now - kOld;
        const std::string fetched = one.fetched == 0 ? "never fetched" : age_text(facts.now, one.fetched);
        const Cell disabled{"disabled", Kind::Faint}, trust{one.trust, one.trust == "signed" ? Kind::Good : Kind::Look};
        Cell index{fetched, is_old ? Kind::Look : Kind::Plain};
        if (!one.problem.empty() && one.is_enabled) index = {one.problem, Kind::Bad};
        return {{one.name, Kind::Name},
                {one.url, Kind::Code},
                one.is_enabled ? trust : disabled,
                {join(keys, ", "), Kind::Code},
                {one.expires == 0 ? "" : time_text(one.expires).substr(0, 10), is_short ? Kind::Bad : Kind::Plain},
                index,
                {std::to_string(one.installed), Kind::Number},
                {std::to_string(one.offered), Kind::Number}};
      }));
  return section;
}

Section configs_section(const Facts& facts) {
  Section section{"configuration", "Configuration"};
  section.text = facts.configs.empty() ? "All configuration is as its packages brought it." : "";
  if (facts.configs.empty()) return section;
  section.tables.push_back(table_of(
      {{"file"}, {"state"}, {"package"}}, facts.configs, facts.copyable("hambrel configs"),
      [](const ConfigFact& one) -> std::vector<Cell> {
        return {{one.path, Kind::Code}, {one.state, one.state == "waiting" ? Kind::Look : Kind::Plain}, {one.package}};
      }));
  return section;
}

Section due_section(const Facts& facts) {
  Section section{"due", "Due"};
  if (facts.services_due.empty() && facts.programs_due.empty())
    section.text = "No service runs on files that were replaced, and every program of a package has run.";
  if (!facts.services_due.empty())
    section.tables.push_back(
        table_of({{"service"}, {"package"}, {"why"}}, facts.services_due, facts.copyable("hambrel services due"),
                 [](const ServiceFact& one) -> std::vector<Cell> {
                   return {{one.name, Kind::Name},
                           {one.package},
                           {fmt::format("runs on {} that {} replaced since", count_text(one.replaced, "file", "files"),
                                        one.replaced == 1 ? "was" : "were")}};
                 }));
  if (!facts.programs_due.empty())
    section.tables.push_back(table_of({{"program"}}, facts.programs_due, facts.copyable("hambrel verify"),
                                      [](const std::string& one) -> std::vector<Cell> {
                                        return {{one, Kind::Code}};
                                      }));
  return section;
}

Section made_section(const Facts& facts) {
  Section section{"generated", "Generated files"};
  if (facts.made.empty()) {
    section.text = "No program of a package has made files.";
    return section;
  }
  section.tables.push_back(table_of({{"file"}, {"package"}, {"made by"}}, facts.made,
                                    facts.copyable("hambrel list generated"),
                                    [](const MadeFact& one) -> std::vector<Cell> {
                                      return {{one.path, Kind::Code}, {one.package}, {one.program, Kind::Code}};
                                    }));
  return section;
}

Section trend_section(const Facts& facts) {
  Section section{"trend", "Over time"};
  add_figure(section, trend_figure(facts));
  if (section.figures.empty()) section.text = "Nothing was changed yet.";
  return section;
}

}  // namespace

Page system_page(const Facts& facts) {
  Page page;
  page.title = fmt::format("The packages of {}", system_name(facts));
  page.subtitles.push_back(fmt::format("{}, {}, as of {}", facts.root, facts.arch, time_text(facts.now)));
  page.tiles = tiles_of(facts);
  page.gaps = facts.gaps;
  page.sections = {upgrades_section(facts),          disk_section(facts),  trend_section(facts),
                   record_section(facts, kMostRows), space_section(facts), sources_section(facts),
                   configs_section(facts),           due_section(facts),   made_section(facts)};
  page.foot = foot_of(facts.now);
  return page;
}

Page record_page(const Facts& facts) {
  Page page;
  page.title = fmt::format("The record of {}", system_name(facts));
  page.subtitles.push_back(fmt::format(
      "{}, as of {}", count_text(facts.transactions.size(), "transaction", "transactions"), time_text(facts.now)));
  page.gaps = facts.gaps;
  page.sections = {record_section(facts, SIZE_MAX), trend_section(facts)};
  page.foot = foot_of(facts.now);
  return page;
}

Page transaction_page(const operations::LedgerDetail& detail, std::int64_t now, const Copyable& copyable) {
  Page page;
  const auto& entry = detail.entry;
  page.title = fmt::format("Transaction {}: {}", number(entry.id), entry.kind);
  page.subtitles.push_back(fmt::format("{}, by {}: {}", time_text(entry.started), entry.user, entry.command));
  if (!entry.note.empty()) page.subtitles.push_back("Reason: " + entry.note);
  if (detail.undone_by) page.subtitles.push_back(fmt::format("Undone by transaction {}.", number(*detail.undone_by)));
  if (detail.given_up_by)
    page.subtitles.push_back(
        fmt::format("It can no longer be undone: given up by transaction {}.", number(*detail.given_up_by)));
  if (detail.attic && detail.attic->attic.bytes)
    page.subtitles.push_back(fmt::format("The attic keeps {} for undoing it.", size_text(*detail.attic->attic.bytes)));
  page.tiles = tiles_of(detail.plan);
  page.tiles.insert(
      page.tiles.begin(),
      {"result", entry.result, fmt::format("took {} s", std::max<std::int64_t>(0, entry.ended - entry.started)),
       entry.result == "done" ? Mood::Good : Mood::Bad});
  if (!entry.problem.empty()) page.gaps.push_back(entry.problem);
  page.sections = sections_of(detail.plan);
  if (!detail.runs.empty()) {
    Section runs{"runs", "What was run"};
    runs.tables.push_back(table_of(
        {{"package"}, {"program"}, {"occasion"}, {"ms", true}, {"ended"}}, detail.runs,
        copyable(fmt::format("hambrel ledger show {}", number(entry.id))), [](const auto& one) -> std::vector<Cell> {
          return {{one.package, Kind::Name},
                  {one.program, Kind::Code},
                  {one.occasion},
                  {std::to_string(one.milliseconds), Kind::Number},
                  {one.ended.empty() ? "well" : one.ended, one.ended.empty() ? Kind::Good : Kind::Bad}};
        }));
    page.sections.push_back(std::move(runs));
  }
  page.foot = foot_of(now);
  return page;
}

Page plan_page(const plan::Plan& plan, const std::vector<std::string>& whence, std::int64_t now) {
  Page page;
  page.title = plan.steps.empty()
                   ? fmt::format("A plan: {}", plan.kind)
                   : fmt::format("A plan: {} {}", plan.kind, count_text(plan.steps.size(), "package", "packages"));
  page.subtitles = whence;
  page.tiles = tiles_of(plan);
  page.sections = sections_of(plan);
  page.foot = foot_of(now);
  return page;
}

}  // namespace hambrel::report
