#include "build/from_source.h"

#include <fmt/format.h>

#include <algorithm>

#include "archive/package_reader.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "base/toml_table.h"

namespace hambrel::build {

namespace {

constexpr const char* kOptionsFile = "etc/hambrel/options.toml";
constexpr std::uint64_t kMostOptionsBytes = 1 << 20;
constexpr const char* kMade = "made";

using AllOptions = std::map<std::string, std::map<std::string, bool>>;

AllOptions all_options(operations::Root& root) {
  AllOptions all;
  os::FileSystem& files = root.files();
  if (!files.stat_followed(kOptionsFile)) return all;
  const std::string shown = files.shown(kOptionsFile);
  const toml::table whole = parse_toml(files.read_all(kOptionsFile, kMostOptionsBytes), shown);
  const TomlTable top(whole, shown, "");
  for (const auto& [recipe, node] : whole) {
    const std::string name(recipe.str());
    if (!node.is_table())
      throw Error(ErrorCode::Invalid, fmt::format("{} must be a table of options", printable(name)), top.at(&node),
                  "write [saltdb] and below it lines such as sound = true");
    for (const auto& [option, value] : *node.as_table()) {
      const auto on = value.value_exact<bool>();
      if (!on)
        throw Error(ErrorCode::Invalid,
                    fmt::format("{}.{} must be true or false", printable(name), printable(option.str())),
                    top.at(&value));
      all[name][std::string(option.str())] = *on;
    }
  }
  return all;
}

/// Of the recipe that a package was built from, and how.
bool is_made_by(const std::string& file, const SourceBuild& build) {
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(file);
  if (!host->stat_followed(path)) return false;
  try {
    const Json built = parse_json(archive::PackageReader(host->open(path), file).built(), file);
    const Json options = built.value("options", Json::object());
    return built.value("recipe", "") == build.wanted.recipe.digest.hex() && options == Json(build.switches);
  } catch (const Error&) {
    return false;
  }
}

class Ordering {
 public:
  Ordering(operations::Root& root, Workshop& workshop) : root_(root), workshop_(workshop) {}

  void add(const std::string& package, const std::string& why) {
    auto wanted = find_buildable(root_, package);
    if (!wanted)
      throw Error(ErrorCode::NotFound, fmt::format("no repository has a recipe for {}", printable(package)), {},
                  "`hambrel list buildable` shows recipes; `hambrel refresh` fetches what is new");
    const std::string name = wanted->recipe.name;
    if (std::find(open_.begin(), open_.end(), name) != open_.end())
      throw Error(ErrorCode::Refused, fmt::format("the recipes {} and {} need each other", open_.back(), name), {},
                  "tell their maintainers: one of them has to come in two parts");
    const bool is_known = std::any_of(builds_.begin(), builds_.end(),
                                      [&](const SourceBuild& one) { return one.wanted.recipe.name == name; });
    if (is_known) return;
    open_.push_back(name);
    SourceBuild build;
    build.folder = bring(root_, workshop_, *wanted);
    const RecipeFolder folder(build.folder, root_.settings().architectures.front());
    build.switches = switches_here(root_, folder.recipe());
    build.wanted = std::move(*wanted);
    build.why = why;
    build.package = package;
    build.last_time = time_of(name);
    const Needs needs = needs_of(folder.recipe(), build.switches);
    for (const auto* const list : {&needs.tools, &needs.libraries})
      for (const Relation& one : *list) need(one, name);
    build.is_made = is_made_by(made_file(workshop_, build), build);
    builds_.push_back(std::move(build));
    open_.pop_back();
  }

  std::vector<SourceBuild> take() { return std::move(builds_); }

 private:
  /// What nobody offers is built, if it can be.
  void need(const Relation& relation, const std::string& by) {
    const Universe& universe = root_.universe();
    const auto all = universe.matching(relation);
    if (std::any_of(all.begin(), all.end(), [&](PackageId id) { return universe.visible(id); })) return;
    for (const Constraint& one : relation.alternatives)
      if (find_buildable(root_, one.name)) return add(one.name, fmt::format("{} needs {}", by, relation.text()));
  }

  std::optional<std::int64_t> time_of(const std::string& recipe) {
    const std::string path = "logs/" + recipe + ".time";
    if (!workshop_.files().stat(path)) return std::nullopt;
    const auto number = parse_number(workshop_.files().read_itself(path, 64));
    return number ? std::optional(static_cast<std::int64_t>(*number)) : std::nullopt;
  }

  operations::Root& root_;
  Workshop& workshop_;
  std::vector<std::string> open_;
  std::vector<SourceBuild> builds_;
};

}  // namespace

std::map<std::string, bool> remembered_options(operations::Root& root, const std::string& recipe) {
  return all_options(root)[recipe];
}

void remember_options(operations::Root& root, const std::string& recipe, const std::map<std::string, bool>& options) {
  AllOptions all = all_options(root);
  for (const auto& [name, on] : options) all[recipe][name] = on;
  std::string text = "# How packages are built from source here: `hambrel options NAME` shows and changes it.\n";
  for (const auto& [name, values] : all) {
    if (values.empty()) continue;
    text += fmt::format("\n[\"{}\"]\n", name);
    for (const auto& [option, on] : values) text += fmt::format("\"{}\" = {}\n", option, on);
  }
  root.files().make_directories("etc/hambrel");
  root.files().edit_file(kOptionsFile, text, 0644);
}

Switches switches_here(operations::Root& root, const Recipe& recipe) {
  Switches switches = switches_of(recipe, {}, {});
  for (const auto& [name, on] : remembered_options(root, recipe.name()))
    if (const auto found = switches.find(name); found != switches.end()) found->second = on;
  return switches;
}

std::vector<SourceBuild> builds_for(operations::Root& root, Workshop& workshop, const std::vector<std::string>& names) {
  Ordering ordering(root, workshop);
  for (const std::string& name : names) ordering.add(name, "asked for");
  return ordering.take();
}

std::string made_directory(Workshop& workshop) {
  workshop.files().make_if_missing(kMade, 0755);
  return workshop.on_host(kMade);
}

std::vector<std::string> made_files(Workshop& workshop) {
  std::vector<std::string> files;
  const std::string directory = made_directory(workshop);
  for (const std::string& name : workshop.files().list(kMade))
    if (name.ends_with(".hambrel")) files.push_back(directory + "/" + name);
  return files;
}

std::string made_file(Workshop& workshop, const SourceBuild& build) {
  const RecipeFolder folder(build.folder, "x86_64");
  const Recipe& recipe = folder.recipe();
  const Output* output = &recipe.outputs.front();
  for (const Output& one : recipe.outputs)
    if (one.package.package.name == build.package) output = &one;
  const std::string beginning = fmt::format("{}-{}{}.", output->package.package.name,
                                            output->package.package.version.text(), suffix_of(recipe, build.switches));
  for (const std::string& file : made_files(workshop)) {
    const std::string_view name = os::name_of(file);
    if (name.starts_with(beginning) && name.find('.', beginning.size()) + sizeof ".hambrel" - 1 == name.size())
      return file;
  }
  return made_directory(workshop) + "/" + beginning + "missing";
}

void note_time(Workshop& workshop, const std::string& recipe, std::int64_t milliseconds) {
  workshop.files().replace_cache("logs/" + recipe + ".time", std::to_string(milliseconds), 0600);
}

}  // namespace hambrel::build
