#include "operations/whats_new.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "repo/advisory_index.h"
#include "repo/recipe_list.h"

namespace hambrel::operations {

namespace {

using Newest = std::vector<std::pair<std::string, Version>>;  // by name

/// The newest versions that repositories offer.
Newest newest_in(const Universe& universe) {
  Newest newest;
  std::string_view before;
  for (const PackageId id : universe.all()) {
    if (!universe.offered(id)) continue;
    const std::string_view name = universe.name(id);
    const auto version = Version::parse(universe.version(id));
    if (!version) continue;
    if (newest.empty() || name != before)
      newest.emplace_back(name, *version);
    else if (newest.back().second < *version)
      newest.back().second = *version;
    before = name;
  }
  std::sort(newest.begin(), newest.end());
  return newest;
}

Universe without_installed(const std::shared_ptr<const Layer>& base, View view) {
  return {base, repo::layer_of(compile_overlay(*base, {}, "")), std::move(view)};
}

/// The newest version of each recipe.
std::map<std::string, std::string> recipes_in(Root& root) {
  std::map<std::string, std::string> recipes;
  for (const settings::Repository& one : root.repositories()) {
    if (!one.enabled) continue;
    try {
      for (const repo::OfferedRecipe& recipe : repo::recipes_of(root.files(), one)) {
        std::string& version = recipes[recipe.name];
        if (version.empty() || order_versions(version, recipe.version) < 0) version = recipe.version;
      }
    } catch (const Error&) {  // told where recipes are asked for
    }
  }
  return recipes;
}

}  // namespace

Offered::Offered(Root& root)
    : base_(root.options().trust_compiled ? repo::stored_catalogue(root.files(), root.repositories()) : nullptr),
      view_(base_ ? root.view() : View()),
      recipes_(recipes_in(root)) {}

WhatsNew Offered::until_now(Root& root, bool packages) const {
  WhatsNew found;
  for (const auto& [name, version] : recipes_in(root)) {
    const auto before = recipes_.find(name);
    if (before == recipes_.end())
      found.recipes.push_back(name);
    else if (order_versions(before->second, version) < 0)
      found.newer_recipes.push_back(fmt::format("{} {}", name, version));
  }
  if (!packages || !base_) return found;
  const Newest earlier = newest_in(without_installed(base_, view_));
  const Newest later = newest_in(without_installed(root.catalog().base, root.view()));
  auto before = earlier.begin();
  for (const auto& [name, version] : later) {
    for (; before != earlier.end() && before->first < name; ++before) found.gone.push_back(before->first);
    if (before == earlier.end() || before->first != name) {
      found.packages.push_back(name);
      continue;
    }
    if (before->second < version) found.newer.push_back(fmt::format("{} {}", name, version.text()));
    ++before;
  }
  for (; before != earlier.end(); ++before) found.gone.push_back(before->first);
  return found;
}

std::string text_of(const Advisory& advisory) {
  return printable(fmt::format("{}{}{}", advisory.id,
                               advisory.severity.empty() ? "" : fmt::format(" ({})", advisory.severity),
                               advisory.summary.empty() ? "" : ": " + advisory.summary));
}

namespace {

/// What the repositories that are used say of packages.
class KnownAdvisories {
 public:
  explicit KnownAdvisories(Root& root) {
    for (const settings::Repository& one : root.repositories()) {
      if (!one.enabled) continue;
      try {
        if (auto index = repo::AdvisoryIndex::open(root.files(), one)) indexes_.push_back(std::move(*index));
      } catch (const Error& problem) {
        root.observer().note(fmt::format("the advisories of {}: {}", one.name, problem.what()));
      }
    }
  }
  bool empty() const { return indexes_.empty(); }
  /// By id, each once.
  std::vector<Advisory> about(std::string_view package) const {
    std::vector<Advisory> all;
    for (const repo::AdvisoryIndex& index : indexes_)
      for (Advisory& one : index.about(package)) all.push_back(std::move(one));
    std::stable_sort(all.begin(), all.end(), [](const Advisory& a, const Advisory& b) { return a.id < b.id; });
    all.erase(std::unique(all.begin(), all.end(), [](const Advisory& a, const Advisory& b) { return a.id == b.id; }),
              all.end());
    return all;
  }

 private:
  std::vector<repo::AdvisoryIndex> indexes_;
};

}  // namespace

std::vector<std::string> security_remarks(Root& root, const plan::Plan& plan) {
  std::vector<std::string> remarks;
  const KnownAdvisories known(root);
  if (known.empty()) return remarks;
  for (const plan::Step& step : plan.steps) {
    if (!step.brings_files()) continue;
    const auto before = Version::parse(step.before), after = Version::parse(step.after);
    for (const Advisory& one : known.about(step.name)) {
      const bool had = before && one.affects(step.name, *before), has = after && one.affects(step.name, *after);
      if (had && !has) remarks.push_back(fmt::format("{} {} fixes {}", step.name, step.after, text_of(one)));
      if (had && has) remarks.push_back(fmt::format("{} {} still has {}", step.name, step.after, text_of(one)));
      if (!had && has)
        remarks.push_back(fmt::format("{} {} has a known security problem, {}", step.name, step.after, text_of(one)));
    }
  }
  return remarks;
}

std::vector<KnownProblem> known_problems(Root& root) {
  std::vector<KnownProblem> problems;
  const KnownAdvisories known(root);
  if (known.empty()) return problems;
  const Universe& universe = root.universe();
  for (const PackageId id : universe.installed()) {
    const Package& package = universe.package(id);
    const std::vector<Advisory> all = known.about(package.name);
    KnownProblem problem{id, std::nullopt, {}};
    for (const Advisory& one : all)
      if (one.affects(package.name, package.version)) problem.advisories.push_back(one);
    if (problem.advisories.empty()) continue;
    if (const auto newer = universe.newer_offer(id)) {
      const Version& version = universe.package(*newer).version;
      const bool is_fixed =
          std::none_of(all.begin(), all.end(), [&](const Advisory& one) { return one.affects(package.name, version); });
      if (is_fixed) problem.fixed_by = newer;
    }
    problems.push_back(std::move(problem));
  }
  return problems;
}

}  // namespace hambrel::operations
