// search, files, owner.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/package.h"
#include "model/search.h"
#include "operations/supply.h"

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

int run_owner(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const state::State* const state = session.state();
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

namespace {

void print_files(Session& session, PackageId id) {
  const Screen& screen = session.screen();
  const std::string name(session.universe().name(id));
  for (const FileEntry& entry : operations::files_of(session.root(), id)) {
    if (session.json()) {
      Json object = entry_json(entry);
      object["package"] = name;
      screen.line(canonical(object));
      continue;
    }
    std::string line = "/" + printable(entry.path);
    if (entry.type == EntryType::Directory) line += "/";
    if (entry.type == EntryType::Symlink) line += " -> " + printable(entry.target);
    if (entry.type == EntryType::HardLink) line += " = /" + printable(entry.target);
    if (entry.config) line += screen.paint(Style::Change, "  configuration");
    screen.line(line);
  }
}

}  // namespace

int run_files(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  session.root().add_files(specs);
  session.tell_of_unusable_repositories();
  const Universe& universe = session.universe();
  const bool file = specs[0].kind == Spec::Kind::File;
  std::map<std::string, PackageId> named;  // of each name the installed version, else the best on offer
  for (const PackageId id : operations::select(session.root(), specs[0])) {
    const auto [known, added] = named.emplace(universe.name(id), id);
    if (!added && !file && universe.is_installed(id) && !universe.is_installed(known->second)) known->second = id;
  }
  for (const auto& [name, id] : named) {
    if (named.size() > 1 && !session.json())
      session.screen().line(session.screen().paint(Style::Name, universe.package(id).title()));
    print_files(session, id);
  }
  return 0;
}

}  // namespace hambrel::cli
