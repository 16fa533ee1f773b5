// search, list, files, owner.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/json.h"
#include "base/text.h"
#include "cli/package_view.h"
#include "solve/solver.h"

namespace hambrel::cli {

namespace {

/// How well a package answers to a word; 0 is best, nothing if not at all.
enum class Found { Name, NamePart, Summary, Provided, Description };
constexpr std::array<const char*, 5> kFoundTitles{"called so", "in the name", "in the summary", "in a provided name",
                                                  "in the description"};

std::optional<Found> find_word(const Package& package, const std::string& word) {
  if (package.name == word) return Found::Name;
  if (package.name.find(word) != std::string::npos) return Found::NamePart;
  if (lower(package.summary).find(word) != std::string::npos) return Found::Summary;
  for (const Constraint& provided : package.provides)
    if (provided.name.find(word) != std::string::npos) return Found::Provided;
  if (lower(package.description).find(word) != std::string::npos) return Found::Description;
  return std::nullopt;
}

/// The version that stands for a name in lists: the installed one, else the newest on offer, else the newest.
PackageId representative(const Universe& universe, const std::string& name) {
  if (const auto id = universe.installed_of(name)) return *id;
  const auto& ids = universe.versions_of(name);
  const auto offered = std::find_if(ids.begin(), ids.end(), [&](PackageId id) { return universe[id].offered(); });
  return offered == ids.end() ? ids.front() : *offered;
}

}  // namespace

int run_search(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  std::array<std::vector<PackageId>, 5> found;
  for (const std::string& name : universe.names()) {
    const PackageId id = representative(universe, name);
    std::optional<Found> worst;
    bool all = true;
    for (const std::string& word : arguments.words()) {
      const auto one = find_word(universe.package(id), lower(word));
      all = all && one.has_value();
      if (one && (!worst || *one > *worst)) worst = one;
    }
    if (all && worst) found[static_cast<std::size_t>(*worst)].push_back(id);
  }
  const Screen& screen = session.screen();
  bool any = false;
  for (std::size_t i = 0; i < found.size(); ++i) {
    if (found[i].empty()) continue;
    if (!session.json()) {
      if (any) screen.line();
      screen.line(screen.paint(Style::Faint, kFoundTitles[i]));
    }
    any = true;
    Table table;
    for (const PackageId id : found[i]) {
      const Candidate& one = universe[id];
      if (session.json()) {
        Json object = brief_json(universe, id);
        object["found"] = kFoundTitles[i];
        screen.line(canonical(object));
        continue;
      }
      table.row({{one.installed ? "*" : " ", Style::Come},
                 {one.package.name, Style::Name},
                 {one.package.version.text()},
                 {printable(one.package.summary)}});
    }
    table.print(screen);
  }
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
  static const std::vector<std::string> plain{"installed", "available", "upgradable",
                                              "wanted",    "pulled-in", "unneeded"};
  Condition condition;
  std::string_view rest = text;
  while (rest.starts_with("not:")) condition.negated = !condition.negated, rest.remove_prefix(4);
  if (const auto colon = rest.find(':'); colon != std::string_view::npos) {
    condition.kind = rest.substr(0, colon);
    condition.value = rest.substr(colon + 1);
    if ((condition.kind == "name" || condition.kind == "repo") && !condition.value.empty()) return condition;
  } else {
    condition.kind = rest;
    if (std::find(plain.begin(), plain.end(), condition.kind) != plain.end()) return condition;
  }
  const std::string near = did_you_mean(condition.kind, plain);
  throw Error(
      ErrorCode::Usage, fmt::format("\"{}\" is not a condition of list", printable(text)), {},
      near.empty()
          ? "there are: installed available upgradable wanted pulled-in unneeded name:GLOB repo:NAME not:CONDITION"
          : near);
}

class Conditions {
 public:
  Conditions(const Universe& universe, const std::vector<std::string>& words) : universe_(universe) {
    for (const std::string& word : words) all_.push_back(parse_condition(word));
    if (all_.empty()) all_.push_back({"installed", "", false});
    std::set<PackageId> wanted;
    for (const PackageId id : universe.installed())
      if (universe[id].installed->reason == Reason::Wanted) wanted.insert(id);
    for (const PackageId id : solve::unneeded(universe, universe.installed(), wanted)) unneeded_.insert(id);
    const bool offers = std::any_of(all_.begin(), all_.end(), [](const Condition& one) {
      return !one.negated && (one.kind == "available" || one.kind == "repo");
    });
    everything_ = offers || std::any_of(all_.begin(), all_.end(),
                                        [](const Condition& one) { return one.kind == "installed" && one.negated; });
    const bool about_installed = std::any_of(
        all_.begin(), all_.end(), [](const Condition& one) { return one.kind != "name" && one.kind != "repo"; });
    everything_ = everything_ || !about_installed;
  }

  /// Of versions that are not installed only the newest on offer of a name is listed.
  bool lists(PackageId id) const {
    const Candidate& one = universe_[id];
    if (!one.installed && (!everything_ || representative(universe_, one.package.name) != id)) {
      const auto& ids = universe_.versions_of(one.package.name);
      const auto newest =
          std::find_if(ids.begin(), ids.end(), [&](PackageId other) { return universe_[other].offered(); });
      if (!everything_ || newest == ids.end() || *newest != id) return false;
    }
    return std::all_of(all_.begin(), all_.end(),
                       [&](const Condition& condition) { return holds(condition, id) != condition.negated; });
  }

 private:
  bool holds(const Condition& condition, PackageId id) const {
    const Candidate& one = universe_[id];
    if (condition.kind == "installed")
      return one.installed || (condition.negated && universe_.installed_of(one.package.name));
    if (condition.kind == "available") return one.offered();
    if (condition.kind == "upgradable") return one.installed && universe_.newer_offer(id);
    if (condition.kind == "wanted") return one.installed && one.installed->reason == Reason::Wanted;
    if (condition.kind == "pulled-in") return one.installed && one.installed->reason == Reason::PulledIn;
    if (condition.kind == "unneeded") return unneeded_.contains(id);
    if (condition.kind == "name") return glob_match(condition.value, one.package.name);
    return std::any_of(one.offers.begin(), one.offers.end(),
                       [&](const Offer& offer) { return glob_match(condition.value, offer.repository); });
  }

  const Universe& universe_;
  std::vector<Condition> all_;
  std::set<PackageId> unneeded_;
  bool everything_ = false;
};

}  // namespace

int run_list(Session& session, const Arguments& arguments) {
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const Conditions conditions(universe, arguments.words());
  const Screen& screen = session.screen();
  Table table;
  std::size_t count = 0;
  for (const PackageId id : universe.all()) {
    if (!conditions.lists(id)) continue;
    ++count;
    const Candidate& one = universe[id];
    if (session.json()) {
      screen.line(canonical(brief_json(universe, id)));
      continue;
    }
    const auto newer = one.installed ? universe.newer_offer(id) : std::nullopt;
    table.row({{one.package.name, Style::Name},
               {one.package.version.text()},
               {newer ? "-> " + universe.package(*newer).version.text() : "", Style::Come},
               {one.installed ? std::string(text_of(one.installed->reason)) : "",
                one.installed && one.installed->reason == Reason::Wanted ? Style::Plain : Style::Faint},
               {printable(one.package.summary), Style::Faint}});
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
