// search, list, files, owner.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/json.h"
#include "base/text.h"
#include "cli/package_view.h"
#include "model/search.h"
#include "solve/solver.h"

namespace hambrel::cli {

namespace {

constexpr std::array<const char*, 6> kFoundTitles{"called so",      "names that begin so", "in the name",
                                                  "in the summary", "in a provided name",  "in the description"};

}  // namespace

int run_search(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const Screen& screen = session.screen();
  const auto hits = search(universe, arguments.words(), arguments.has("regex"));
  const bool any = !hits.empty();
  Table table;
  for (std::size_t i = 0; i < hits.size(); ++i) {
    const PackageId id = hits[i].id;
    const char* const title = kFoundTitles[static_cast<std::size_t>(hits[i].found)];
    if (session.json()) {
      Json object = brief_json(universe, id);
      object["found"] = title;
      screen.line(canonical(object));
      continue;
    }
    if (i == 0 || hits[i].found != hits[i - 1].found) {
      table.print(screen);
      table = Table();
      if (i > 0) screen.line();
      screen.line(screen.paint(Style::Faint, title));
    }
    table.row({{universe.is_installed(id) ? "*" : " ", Style::Come},
               {std::string(universe.name(id)), Style::Name},
               {std::string(universe.version(id))},
               {printable(universe.summary(id))}});
  }
  table.print(screen);
  if (!any && !session.json()) {
    screen.line(fmt::format("Nothing is called, says or provides \"{}\".", printable(join(arguments.words(), " "))));
    if (arguments.words().size() == 1)
      if (const std::string near = did_you_mean(lower(arguments.words()[0]), universe.names()); !near.empty())
        screen.line("  -> " + near);
  }
  return 0;
}

namespace {

struct Condition {
  std::string kind, value;
  bool negated = false;
};

Condition parse_condition(std::string_view text) {
  static const std::vector<std::string> plain{"installed", "available", "upgradable", "wanted",
                                              "pulled-in", "unneeded",  "held",       "stray"};
  static const std::vector<std::string> with_value{"name", "repo", "channel", "arch"};
  Condition condition;
  std::string_view rest = text;
  while (rest.starts_with("not:")) condition.negated = !condition.negated, rest.remove_prefix(4);
  if (const auto colon = rest.find(':'); colon != std::string_view::npos) {
    condition.kind = rest.substr(0, colon);
    condition.value = rest.substr(colon + 1);
    if (std::find(with_value.begin(), with_value.end(), condition.kind) != with_value.end() && !condition.value.empty())
      return condition;
  } else {
    condition.kind = rest;
    if (std::find(plain.begin(), plain.end(), condition.kind) != plain.end()) return condition;
  }
  const std::string near = did_you_mean(condition.kind, plain);
  throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a condition of list", printable(text)), {},
              near.empty() ? "there are: installed available upgradable wanted pulled-in unneeded held stray shelved "
                             "name:GLOB repo:NAME "
                             "channel:NAME arch:NAME not:CONDITION"
                           : near);
}

class Conditions {
 public:
  Conditions(const Universe& universe, const std::vector<std::string>& words) : universe_(universe) {
    for (const std::string& word : words) all_.push_back(parse_condition(word));
    if (all_.empty()) all_.push_back({"installed", "", false});
    if (std::any_of(all_.begin(), all_.end(), [](const Condition& one) { return one.kind == "unneeded"; })) {
      std::set<PackageId> wanted;
      for (const PackageId id : universe.installed())
        if (universe.wanted(id)) wanted.insert(id);
      for (const PackageId id : solve::unneeded(universe, universe.installed(), wanted)) unneeded_.insert(id);
    }
    const bool offers = std::any_of(all_.begin(), all_.end(), [](const Condition& one) {
      return !one.negated && (one.kind == "available" || one.kind == "repo" || one.kind == "channel");
    });
    everything_ = offers || std::any_of(all_.begin(), all_.end(),
                                        [](const Condition& one) { return one.kind == "installed" && one.negated; });
    const bool about_installed = std::any_of(all_.begin(), all_.end(), [](const Condition& one) {
      return one.kind != "name" && one.kind != "repo" && one.kind != "channel" && one.kind != "arch";
    });
    everything_ = everything_ || !about_installed;
  }

  /// What could be listed at all, in the order of lists: installed ones, and where they are asked for too, the newest
  /// of each name that is on offer.
  std::vector<PackageId> candidates() const {
    if (!everything_) return universe_.installed();
    std::vector<PackageId> ids;
    for (const Condition& one : all_) {  // a plain start of the name saves looking at all others
      if (one.kind != "name" || one.negated) continue;
      const std::string start = one.value.substr(0, one.value.find_first_of("*?"));
      for (const NameId name : universe_.names_with_prefix(start)) add_of(name, ids);
      universe_.sort(ids);
      return ids;
    }
    for (const PackageId id : universe_.all())
      if (ids.empty() || universe_.name_id(ids.back()) != universe_.name_id(id)) add_of(universe_.name_id(id), ids);
    return ids;
  }

  bool lists(PackageId id) const {
    return std::all_of(all_.begin(), all_.end(),
                       [&](const Condition& condition) { return holds(condition, id) != condition.negated; });
  }

 private:
  void add_of(NameId name, std::vector<PackageId>& ids) const {
    bool offered = false;
    const auto versions = universe_.versions_of(name);
    for (const PackageId id : versions) {
      const bool newest = universe_.offered(id) && !offered;
      offered = offered || universe_.offered(id);
      if (universe_.is_installed(id) || newest || (id == versions.front() && representative(universe_, name) == id))
        ids.push_back(id);
    }
  }

  bool holds(const Condition& condition, PackageId id) const {
    const bool installed = universe_.is_installed(id);
    if (condition.kind == "installed")
      return installed || (condition.negated && universe_.installed_of(universe_.name(id)));
    if (condition.kind == "available") return universe_.offered(id);
    if (condition.kind == "upgradable") return installed && universe_.newer_offer(id);
    if (condition.kind == "wanted") return installed && universe_.wanted(id);
    if (condition.kind == "pulled-in") return installed && !universe_.wanted(id);
    if (condition.kind == "held") return installed && universe_.held(id);
    if (condition.kind == "stray") {
      const auto versions = universe_.slot(id);
      return installed &&
             std::none_of(versions.begin(), versions.end(), [&](PackageId one) { return universe_.offered(one); });
    }
    if (condition.kind == "unneeded") return unneeded_.contains(id);
    if (condition.kind == "name") return glob_match(condition.value, universe_.name(id));
    if (condition.kind == "arch") return universe_.architecture(id) == condition.value;
    for (std::size_t i = 0; i < universe_.offer_count(id); ++i) {
      const auto offer = universe_.offer(id, i);
      const std::string_view has = condition.kind == "channel" ? offer.channel : offer.repository;
      if (offer.enabled && glob_match(condition.value, has)) return true;
    }
    return false;
  }

  const Universe& universe_;
  std::vector<Condition> all_;
  std::set<PackageId> unneeded_;
  bool everything_ = false;
};

}  // namespace

namespace {

/// What is shelved is not among what is installed: for itself.
int list_shelved(Session& session, const Arguments& arguments) {
  const state::State* const state = session.looking();
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

int run_list(Session& session, const Arguments& arguments) {
  if (arguments.words() == std::vector<std::string>{"shelved"}) return list_shelved(session, arguments);
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const Conditions conditions(universe, arguments.words());
  const Screen& screen = session.screen();
  Table table;
  std::size_t count = 0;
  const auto candidates = conditions.candidates();
  table.expect(candidates.size());
  for (const PackageId id : candidates) {
    if (!conditions.lists(id)) continue;
    ++count;
    if (session.json()) {
      screen.line(canonical(brief_json(universe, id)));
      continue;
    }
    const bool installed = universe.is_installed(id), wanted = universe.wanted(id);
    const auto newer = installed ? universe.newer_offer(id) : std::nullopt;
    table.row({{universe.name(id), Style::Name},
               {universe.version(id)},
               {newer ? fmt::format("-> {}", universe.version(*newer)) : "", Style::Come},
               {installed ? text_of(wanted ? Reason::Wanted : Reason::PulledIn) : std::string_view(),
                wanted ? Style::Plain : Style::Faint},
               {universe.held(id) ? "held" : "", Style::Warn},
               {printable(universe.summary(id)), Style::Faint}});
  }
  table.print(screen);
  if (!session.json() && !session.quiet() && count == 0) screen.line("Nothing meets these conditions.");
  return arguments.has("exit-code") && count > 0 ? 10 : 0;
}

int run_owner(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const state::State* const state = session.looking();
  int code = 0;
  Table table;
  for (const std::string& given : arguments.words()) {
    const std::string path = os::host_path(given);
    const auto owners = state == nullptr ? std::vector<state::OwnedFile>() : state->owners_of(path);
    if (owners.empty()) code = exit_code(ErrorCode::NotFound);
    if (session.json()) {
      Json names = Json::array();
      for (const auto& owner : owners) names.push_back(owner.package_name);
      screen.line(canonical({{"path", "/" + path}, {"packages", names}}));
      continue;
    }
    std::vector<std::string> names;
    for (const auto& owner : owners) names.push_back(owner.package_name);
    table.row(
        {{"/" + printable(path)},
         {names.empty() ? "belongs to no package" : join(names, ", "), names.empty() ? Style::Warn : Style::Name}});
  }
  table.print(screen);
  return code;
}

int run_files(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  session.add_files(specs);
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const auto ids = select(session, specs[0]);
  const auto installed = std::find_if(ids.begin(), ids.end(), [&](PackageId id) {
    return universe[id].installed && specs[0].kind != Spec::Kind::File;
  });
  const PackageId id = installed == ids.end() ? ids.front() : *installed;
  const Screen& screen = session.screen();
  for (const FileEntry& entry : files_of(session, id)) {
    if (session.json()) {
      screen.line(canonical(entry_json(entry)));
      continue;
    }
    std::string line = "/" + printable(entry.path);
    if (entry.type == EntryType::Directory) line += "/";
    if (entry.type == EntryType::Symlink) line += " -> " + printable(entry.target);
    if (entry.type == EntryType::HardLink) line += " = /" + printable(entry.target);
    if (entry.config) line += screen.paint(Style::Change, "  configuration");
    screen.line(line);
  }
  return 0;
}

}  // namespace hambrel::cli
