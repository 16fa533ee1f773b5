#include "build/from_source.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "archive/package_reader.h"
#include "base/error.h"
#include "base/json.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "os/host.h"

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

/// A package file that was made here, and how.
struct Made {
  std::string file;
  Package package;
  Json built;
};

/// What can't be read is passed over: it can't be installed either.
std::vector<Made> all_made(Workshop& workshop, const std::string& beginning = "") {
  std::vector<Made> all;
  const auto host = os::open_file_system("/");
  for (const std::string& file : made_files(workshop)) {
    if (!os::name_of(file).starts_with(beginning)) continue;
    try {
      const archive::PackageReader reader(host->open(os::host_path(file)), file);
      all.push_back({file, reader.manifest(), parse_json(reader.built(), file)});
    } catch (const Error&) {
    }
  }
  return all;
}

std::vector<Made> made_of(Workshop& workshop, const std::string& package) {
  std::vector<Made> all = all_made(workshop, package + "-");
  std::erase_if(all, [&](const Made& one) { return one.package.name != package; });
  return all;
}

bool is_by(const Made& made, const SourceBuild& build) {
  return made.built.value("recipe", "") == build.wanted.recipe.digest.hex() &&
         made.built.value("options", Json::object()) == Json(build.switches);
}

/// The output that brings the package which is asked for.
Output output_of(const SourceBuild& build) {
  const Recipe recipe = RecipeFolder(build.folder, os::machine_architecture()).recipe();
  for (const Output& one : recipe.outputs)
    if (one.package.package.name == build.package) return one;
  return recipe.outputs.front();
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
    build.is_made = !made_file(workshop_, build).empty();
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

std::vector<LeftByBuilds::Item> earlier_made(operations::Root& root, Workshop& workshop) {
  std::map<std::string, Version> newest;
  const std::vector<Made> all = all_made(workshop);
  for (const Made& one : all) {
    const auto found = newest.find(one.package.name);
    if (found == newest.end() || found->second < one.package.version)
      newest.insert_or_assign(one.package.name, one.package.version);
  }
  std::vector<LeftByBuilds::Item> items;
  const Universe& universe = root.universe();
  for (const Made& one : all) {
    const auto installed = universe.installed_of(one.package.name);
    const bool is_installed = installed && universe.version(*installed) == one.package.version.text();
    if (is_installed || !(one.package.version < newest.at(one.package.name))) continue;
    const std::string path = fmt::format("{}/{}", kMade, os::name_of(one.file));
    items.push_back({LeftByBuilds::Item::Kind::Made, path, workshop.files().stat_present(path).size, false});
  }
  return items;
}

std::vector<std::string> candidates_for(Workshop& workshop, const std::vector<SourceBuild>& builds) {
  struct Best {
    Made made;
    bool is_wanted;
  };
  std::map<std::string, Best> best;
  for (Made& one : all_made(workshop)) {
    const bool is_wanted =
        std::any_of(builds.begin(), builds.end(), [&](const auto& build) { return is_by(one, build); });
    const auto found = best.find(one.package.name);
    const bool is_better =
        found == best.end() || (is_wanted && !found->second.is_wanted) ||
        (is_wanted == found->second.is_wanted && found->second.made.package.version < one.package.version);
    if (is_better) best.insert_or_assign(one.package.name, Best{one, is_wanted});
  }
  std::vector<std::string> files;
  for (const auto& [name, one] : best) files.push_back(one.made.file);
  return files;
}

namespace {

std::optional<Made> newest_of(Workshop& workshop, const SourceBuild& build) {
  std::optional<Made> newest;
  for (Made& one : made_of(workshop, output_of(build).package.package.name))
    if (is_by(one, build) && (!newest || newest->package.version < one.package.version)) newest = std::move(one);
  return newest;
}

}  // namespace

std::string made_file(Workshop& workshop, const SourceBuild& build) {
  const auto made = newest_of(workshop, build);
  return made ? made->file : "";
}

std::string made_version(Workshop& workshop, const SourceBuild& build) {
  const auto made = newest_of(workshop, build);
  return made ? made->package.version.text() : "";
}

std::string build_number(Workshop& workshop, const SourceBuild& build) {
  const Recipe recipe = RecipeFolder(build.folder, os::machine_architecture()).recipe();
  const Output output = output_of(build);
  const std::string suffix = suffix_of(recipe, build.switches);
  const auto made = made_of(workshop, output.package.package.name);
  for (unsigned number = 1;; ++number) {
    const std::string more = number == 1 ? "" : fmt::format("{}b{}", suffix.empty() ? "+" : ".", number);
    const std::string version = output.package.package.version.text() + suffix + more;
    if (std::none_of(made.begin(), made.end(), [&](const Made& one) { return one.package.version.text() == version; }))
      return more;
  }
}

namespace {

std::string switches_text(const Switches& switches) {
  std::vector<std::string> texts;
  for (const auto& [name, on] : switches) texts.push_back(fmt::format("{} {}", name, on ? "on" : "off"));
  return join(texts, ", ");
}

/// A library or module that it requires, and that nothing offers any more.
std::string lost_library(const Universe& universe, const Package& package, const std::set<std::string>& made_here) {
  for (const Relation& one : package.requires_) {
    const std::string& name = one.alternatives.front().name;
    if (one.alternatives.size() != 1 || (name.find(".so") == std::string::npos && !name.ends_with(".pc"))) continue;
    if (made_here.contains(name)) continue;
    const auto all = universe.matching(one);
    if (std::none_of(all.begin(), all.end(), [&](PackageId id) { return universe.offered(id); })) return name;
  }
  return {};
}

/// Names that the newest of what was made here provides: nobody offers these, but they are not lost.
std::set<std::string> provided_here(Workshop& workshop) {
  std::map<std::string, Made> newest;
  for (Made& one : all_made(workshop)) {
    const auto [known, is_new] = newest.try_emplace(one.package.name, one);
    if (!is_new && known->second.package.version < one.package.version) known->second = std::move(one);
  }
  std::set<std::string> names;
  for (const auto& [name, made] : newest)
    for (const Constraint& one : made.package.provides) names.insert(one.name);
  return names;
}

/// Why something is built again.
struct Again {
  std::string text;
  bool is_forced = false;  // though recipe and options are the same
};

/// Nothing: it stays as it was built.
std::optional<Again> why_again(operations::Root& root, const Made& made, const Buildable& wanted,
                               const Switches& switches, const std::set<std::string>& made_here) {
  if (made.built.value("recipe", "") != wanted.recipe.digest.hex())
    return Again{fmt::format("its recipe has changed, now {}", wanted.recipe.version)};
  if (made.built.value("options", Json::object()) != Json(switches))
    return Again{fmt::format("its options are now {}", switches_text(switches))};
  const std::string lost = lost_library(root.universe(), made.package, made_here);
  if (lost.empty()) return std::nullopt;
  return Again{fmt::format("nothing offers {} any more", lost), true};
}

}  // namespace

std::vector<SourceBuild> rebuilds_for(operations::Root& root, Workshop& workshop,
                                      const std::vector<std::string>& names) {
  const std::set<std::string> provided = provided_here(workshop);
  std::map<std::string, Again> again;  // by package
  const Universe& universe = root.universe();
  for (const Made& made : all_made(workshop)) {
    const std::string& name = made.package.name;
    if (!names.empty() && std::find(names.begin(), names.end(), name) == names.end()) continue;
    const auto versions = universe.versions_of(name);
    const bool is_installed = std::any_of(versions.begin(), versions.end(), [&](PackageId id) {
      return universe.is_installed(id) && universe.version(id) == made.package.version.text() &&
             universe.architecture(id) == made.package.arch;
    });
    if (!is_installed) continue;
    const auto wanted = find_buildable(root, name);
    if (!wanted) continue;
    const RecipeFolder folder(bring(root, workshop, *wanted), root.settings().architectures.front());
    if (auto why = why_again(root, made, *wanted, switches_here(root, folder.recipe()), provided))
      again.emplace(name, std::move(*why));
  }
  Ordering ordering(root, workshop);
  for (const auto& [name, why] : again) ordering.add(name, why.text);
  std::vector<SourceBuild> builds = ordering.take();
  // one that another needs came in for that; its own reason says more
  for (SourceBuild& one : builds)
    for (const std::string& package : one.wanted.recipe.packages)
      if (const auto own = again.find(package); own != again.end()) {
        one.why = own->second.text;
        one.is_forced = one.is_forced || own->second.is_forced;
      }
  return builds;
}

void note_time(Workshop& workshop, const std::string& recipe, std::int64_t milliseconds) {
  workshop.files().replace_cache("logs/" + recipe + ".time", std::to_string(milliseconds), 0600);
}

}  // namespace hambrel::build
