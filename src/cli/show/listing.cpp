#include "cli/show/listing.h"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "base/json.h"
#include "base/text.h"
#include "build/collection.h"
#include "cli/show/package.h"
#include "cli/show/recipe.h"
#include "cli/terminal/table.h"
#include "operations/configuration.h"
#include "operations/leftovers.h"
#include "operations/whats_new.h"
#include "plan/plan.h"

namespace hambrel::cli {

/// What is shelved is not among what is installed: for itself.
std::size_t show_shelved(Session& session) {
  Rows rows(session);
  for (const auto& one : operations::shelved(session.root()))
    rows.add(
        [&] {
          return Json{{"name", one.package.name},
                      {"version", one.package.version.text()},
                      {"arch", one.package.arch},
                      {"summary", one.package.summary},
                      {"shelved", true},
                      {"reason", text_of(one.reason)},
                      {"installed_size", one.package.installed_size}};
        },
        {{one.package.name, Style::Name},
         {one.package.version.text()},
         {text_of(one.reason)},
         {"shelved", Style::Warn},
         {size_text(one.package.installed_size), Style::Plain, true},
         {printable(one.package.summary), Style::Faint}});
  rows.print("Nothing is shelved.");
  return rows.count();
}

/// Packages that are gone and left edited configuration behind.
std::size_t show_leftover(Session& session) {
  std::map<std::string, std::vector<operations::ConfigFile>> by_package;
  for (operations::ConfigFile& one : operations::leftovers_of(session.root()))
    by_package[one.package.package.name].push_back(one);
  Rows rows(session);
  for (const auto& [name, files] : by_package) {
    const auto& one = files.front();
    const std::string version = one.package.package.version.text();
    rows.add(
        [&, package = name, count = files.size()] {
          return Json{{"name", package}, {"version", version}, {"leftover", count}, {"left", number(one.left)}};
        },
        {{name, Style::Name},
         {version},
         {count_text(files.size(), "file", "files")},
         {fmt::format("since transaction {}", number(one.left)), Style::Faint},
         {session.copyable("hambrel remove --purge " + name), Style::Faint}});
  }
  rows.print("No removed package has edited configuration left.");
  return rows.count();
}

/// What programs of packages made, a line each.
std::size_t show_generated(Session& session) {
  Rows rows(session);
  for (const operations::MadeFile& one : operations::made_files(session.root()))
    rows.add(
        [&] {
          return Json{{"path", "/" + one.path}, {"package", one.package}, {"program", one.program}};
        },
        {{"/" + printable(one.path), Style::Name}, {one.package}, {printable(one.program), Style::Faint}});
  rows.print("No package programs have generated files.");
  return rows.count();
}

/// Installed packages with a known security problem, a line for each of these.
std::size_t show_vulnerable(Session& session) {
  const Universe& universe = session.universe();
  Rows rows(session);
  for (const operations::KnownProblem& one : operations::known_problems(session.root()))
    for (const Advisory& advisory : one.advisories)
      rows.add(
          [&] {
            return Json{{"name", universe.name(one.installed)},
                        {"version", universe.version(one.installed)},
                        {"fixed_by", one.fixed_by ? Json(universe.version(*one.fixed_by)) : Json()},
                        {"advisory", advisory.id},
                        {"aliases", advisory.aliases},
                        {"severity", advisory.severity},
                        {"summary", advisory.summary}};
          },
          {{universe.name(one.installed), Style::Name},
           {universe.version(one.installed)},
           {one.fixed_by ? fmt::format("-> {}", universe.version(*one.fixed_by)) : "no fix",
            one.fixed_by ? Style::Come : Style::Warn},
           {printable(operations::text_of(advisory))}});
  rows.print("No security problem of an installed package is known.");
  return rows.count();
}

std::size_t show_buildable(Session& session) {
  Rows rows(session);
  for (const build::Buildable& one : build::buildable(session.root()))
    rows.add([&] { return to_json(one); }, {{one.recipe.name, Style::Name},
                                            {one.recipe.version},
                                            {one.repository.name},
                                            {printable(one.recipe.summary), Style::Faint}});
  rows.print("No repository has recipes.");
  return rows.count();
}

namespace {

constexpr std::size_t kMostNames = 3;

/// "12 MiB", and with what; or why it can't go alone.
std::pair<std::string, std::string> freed_text(const operations::DiskUse::Of& use) {
  if (!use.alone()) return {"", "needed by " + plan::some_of(use.needed_by, kMostNames)};
  return {"frees " + size_text(use.freed.bytes + use.cached),
          use.others.empty() ? "" : "with " + plan::some_of(use.others, kMostNames)};
}

/// "since 2029-12-01 by root, until 2030-01-31: the gauge driver needs it"
std::string hold_text(const Hold& hold) {
  std::string text = fmt::format("since {} by {}", time_text(hold.since), hold.user);
  if (hold.until != 0) text += ", until " + utc_text(hold.until).substr(0, 10);
  return hold.reason.empty() ? text : text + ": " + hold.reason;
}

/// The packages that meet conditions, in the form that fits what the conditions are about.
class Listing {
 public:
  Listing(Session& session, const ListingTerms& terms)
      : session_(session),
        universe_(session.universe()),
        conditions_(universe_, terms.conditions),
        order_(terms.order),
        all_(terms.conditions.empty()),
        listed_(conditions_.listed()) {
    operations::sort_by(universe_, order_, listed_);
    count_ = listed_.size();
    if (terms.most) listed_.resize(std::min<std::size_t>(count_, *terms.most));
    std::copy_if(listed_.begin(), listed_.end(), std::back_inserter(installed_),
                 [&](PackageId id) { return universe_.is_installed(id); });
    constexpr std::size_t kReckoned = 50;  // for more of them it would take a while
    if (about_size() && installed_.size() <= kReckoned && !installed_.empty()) use_.emplace(session.root());
  }

  std::size_t count() const { return count_; }

  void show() {
    if (session_.json()) {
      for (const PackageId id : listed_) session_.document(document(id));
      return;
    }
    const Table table = Table::of_rows(listed_.size(), Table(2, Table::Last::Cut),
                                       [&](Table& rows, std::size_t i) { add(rows, listed_[i]); });
    table.print(session_.screen());
    if (session_.quiet()) return;
    if (count_ == 0) session_.screen().line(all_ ? "No packages are installed." : "No packages match.");
    if (listed_.size() < count_) session_.screen().line(fmt::format("  ... and {} more", count_ - listed_.size()));
    if (use_) print_sum();
  }

 private:
  bool about_size() const { return conditions_.about_size() || order_ == operations::Order::Size; }

  std::optional<operations::DiskUse::Of> freed(PackageId id) const {
    return use_ && universe_.is_installed(id) ? std::optional(use_->of({id})) : std::nullopt;
  }

  std::optional<Hold> hold(PackageId id) const {
    return universe_.is_installed(id) ? universe_[id].installed->hold : std::nullopt;
  }

  Json document(PackageId id) const {
    Json object = to_json(universe_, id);
    if (const auto use = freed(id))
      object["frees"] = {
          {"files", use->freed.bytes}, {"cache", use->cached}, {"with", use->others}, {"needed_by", use->needed_by}};
    if (const auto held = hold(id))
      object["hold"] = {{"since", utc_text(held->since)},
                        {"until", held->until == 0 ? Json() : Json(utc_text(held->until))},
                        {"user", held->user},
                        {"reason", held->reason}};
    return object;
  }

  void add(Table& table, PackageId id) const {
    const auto held = conditions_.about_holds() ? hold(id) : std::nullopt;
    if (held) return add_held(table, id, *held);
    if (!about_size()) return add_listed(table, universe_, id);
    const auto use = freed(id);
    const auto [frees, note] = use ? freed_text(*use) : std::pair<std::string, std::string>();
    const bool here = universe_.is_installed(id), wanted = universe_.wanted(id);
    table.row({{universe_.name(id), Style::Name},
               {universe_.version(id)},
               {here ? text_of(wanted ? Reason::Wanted : Reason::PulledIn) : std::string_view(),
                wanted ? Style::Plain : Style::Faint},
               {size_text(universe_.installed_size(id)), Style::Plain, true},
               {frees, Style::Go, true},
               {note, Style::Faint}});
  }

  void add_held(Table& table, PackageId id, const Hold& held) const {
    const auto newer = universe_.newer_offer(id);
    table.row({{universe_.name(id), Style::Name},
               {universe_.version(id)},
               {newer ? fmt::format("-> {} waits", universe_.version(*newer)) : "no newer version",
                newer ? Style::Come : Style::Faint},
               {printable(hold_text(held))}});
  }

  void print_sum() const {
    const Screen& screen = session_.screen();
    const auto all = use_->of(installed_);
    const std::string who = installed_.size() == 1 ? "it" : fmt::format("these {} together", installed_.size());
    const auto say = [&](const std::string& text) {
      screen.line();
      screen.paragraph(text, 0);
    };
    if (!all.alone())
      return say(fmt::format("Removing {} would break others: {}.", who, plan::some_of(all.needed_by, kMostNames)));
    say(fmt::format("Removing {} would free {}: {} of files{}, and {} in the cache.", who,
                    size_text(all.freed.bytes + all.cached), size_text(all.freed.bytes),
                    all.others.empty()
                        ? ""
                        : fmt::format(", including {} (then no longer needed)", plan::some_of(all.others, kMostNames)),
                    size_text(all.cached)));
    screen.line(
        fmt::format("The files stay in the attic until you free them: `{}`.", session_.copyable("hambrel tidy attic")));
  }

  Session& session_;
  const Universe& universe_;
  const operations::Conditions conditions_;
  const operations::Order order_;
  const bool all_;  // no condition was given
  std::vector<PackageId> listed_, installed_;
  std::size_t count_ = 0;  // of those that could be listed
  std::optional<operations::DiskUse> use_;
};

}  // namespace

std::size_t show(Session& session, const ListingTerms& terms) {
  Listing listing(session, terms);
  listing.show();
  return listing.count();
}

}  // namespace hambrel::cli
