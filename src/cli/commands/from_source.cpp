// install --from-source and options.
#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/text.h"
#include "cli/carry.h"
#include "cli/commands/build.h"
#include "cli/show/source_build.h"
#include "operations/asking.h"

namespace hambrel::cli {

namespace {

build::BuildRequest request_for(build::Workshop& workshop, const build::SourceBuild& one) {
  build::BuildRequest request;
  request.recipe = one.folder;
  request.with = names_in(one.switches, true);
  request.without = names_in(one.switches, false);
  request.package_files = {build::made_directory(workshop)};
  request.output.directory = build::made_directory(workshop);
  return request;
}

/// Reads, shows and asks, then builds all of them; the exit code where one fails. Nothing where it was only shown.
std::optional<int> build_all(Session& session, const Arguments& arguments, build::Workshop& workshop,
                             const std::vector<build::SourceBuild>& builds) {
  for (const build::SourceBuild& one : builds)
    if (has_to_be_built(one)) read_first(session, arguments, one.wanted, one.folder);
  const bool is_silent = session.quiet() && arguments.has("yes");
  if (!session.json() && !is_silent) show(session, builds);
  const bool is_open = std::any_of(builds.begin(), builds.end(), has_to_be_built);
  if (arguments.has("dry-run") && is_open) {
    if (session.json()) show_documents(session, builds);
    return std::nullopt;
  }
  if (is_open) ask_consent(session, arguments);
  for (const build::SourceBuild& one : builds) {
    if (!has_to_be_built(one)) continue;
    if (!session.json() && !session.quiet())
      session.screen().line(fmt::format("\n{} {}", session.screen().paint(Style::Name, one.wanted.recipe.name),
                                        one.wanted.recipe.version));
    build::BuildRequest request = request_for(workshop, one);
    request.output.more_version = build::build_number(workshop, one);
    build::Build build(session.root(), std::move(request));
    std::int64_t took = 0;
    if (const int code = perform(session, build, &took); code != 0) return code;
    build::note_time(workshop, one.wanted.recipe.name, took);
  }
  if (!session.json() && !is_silent) session.screen().line();
  return 0;
}

/// The one that makes a package, or is called so, as if that package had been asked for.
std::optional<build::SourceBuild> build_of(const std::vector<build::SourceBuild>& builds, const std::string& package) {
  for (const build::SourceBuild& one : builds) {
    const auto& packages = one.wanted.recipe.packages;
    if (one.wanted.recipe.name != package && std::find(packages.begin(), packages.end(), package) == packages.end())
      continue;
    build::SourceBuild found = one;
    found.package = package;
    return found;
  }
  return std::nullopt;
}

/// What was made here can be chosen from then on. Returns the files of what was asked for or built again.
std::vector<std::string> see_made(Session& session, build::Workshop& workshop,
                                  const std::vector<build::SourceBuild>& builds, const std::set<std::string>& asked) {
  std::vector<std::string> files;
  for (const std::string& name : asked)
    if (const auto one = build_of(builds, name)) files.push_back(build::made_file(workshop, *one));
  const auto all = build::candidates_for(workshop, builds);
  session.root().take_as_made_here(all);
  std::vector<Spec> specs;
  for (const std::string& file : all) specs.push_back(parse_spec(file));
  session.root().add_files(specs);
  return files;
}

}  // namespace

int install_from_source(Session& session, const Arguments& arguments) {
  require_consent_possible(session, arguments);
  for (const std::string& word : arguments.words())
    if (!is_package_name(word))
      throw Error(ErrorCode::Usage, fmt::format("{}: --from-source needs the names of packages", printable(word)), {},
                  "`hambrel list buildable` shows them; of a folder: hambrel build DIR");
  refresh_first(session, arguments);
  build::Workshop workshop(session.root());
  const auto builds = build::builds_for(session.root(), workshop, arguments.words());
  const auto built = build_all(session, arguments, workshop, builds);
  if (!built || *built != 0) return built.value_or(0);
  begin_refreshed(session, arguments);
  operations::Named named;
  named.install = see_made(session, workshop, builds, {arguments.words().begin(), arguments.words().end()});
  operations::ChangeRequest request = change_request(session, arguments, "install");
  operations::ask_for(session.root(), named, request);
  return carry_out(session, arguments, std::move(request));
}

std::optional<int> begin_with_rebuilds(Session& session, const Arguments& arguments,
                                       std::vector<std::string>& install) {
  const auto there = build::Workshop::find(session.root());
  if (!there || build::made_files(*there).empty()) {
    begin(session, arguments);
    return std::nullopt;
  }
  refresh_first(session, arguments);
  build::Workshop workshop(session.root());
  const auto builds = build::rebuilds_for(session.root(), workshop, arguments.words());
  if (!builds.empty()) require_consent_possible(session, arguments);
  const auto built = builds.empty() ? std::nullopt : build_all(session, arguments, workshop, builds);
  if (built && *built != 0) return built;
  begin_refreshed(session, arguments);
  if (!built) return std::nullopt;
  std::set<std::string> again;
  for (const build::SourceBuild& one : builds)
    for (const std::string& package : one.wanted.recipe.packages) {
      const auto installed = session.universe().installed_of(package);
      if (!installed) continue;
      // a pulled-in one stays so: the upgrade takes what is newer by itself
      const std::string version = build::made_version(workshop, *build_of(builds, package));
      if (version.empty()) continue;  // not made with these options
      const bool is_newer = compare_versions(version, session.universe().version(*installed)) > 0;
      if (session.universe().wanted(*installed) || !is_newer) again.insert(package);
    }
  install = see_made(session, workshop, builds, again);
  return std::nullopt;
}

int run_options(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const auto wanted = build::find_buildable(session.root(), words[0]);
  if (!wanted)
    throw Error(ErrorCode::NotFound, fmt::format("no repository has a recipe for {}", printable(words[0])), {},
                "`hambrel list buildable` shows recipes");
  build::Workshop workshop(session.root());
  const build::RecipeFolder folder(build::bring(session.root(), workshop, *wanted),
                                   session.root().settings().architectures.front());
  const build::Recipe& recipe = folder.recipe();
  std::map<std::string, bool> given;
  for (std::size_t i = 1; i < words.size(); ++i) {
    const auto equals = words[i].find('=');
    const std::string name = words[i].substr(0, equals),
                      value = equals == std::string::npos ? "" : words[i].substr(equals + 1);
    if (value != "on" && value != "off")
      throw Error(ErrorCode::Usage, fmt::format("{}: must be OPTION=on or OPTION=off", printable(words[i])));
    build::switches_of(recipe, {name}, {});
    given[name] = value == "on";
  }
  if (!given.empty()) build::remember_options(session.root(), recipe.name(), given);
  show(session, recipe, build::switches_here(session.root(), recipe));
  return 0;
}

}  // namespace hambrel::cli
