#include "operations/whats_new.h"

#include <fmt/format.h>

#include <algorithm>

#include "repo/notes.h"

namespace hambrel::operations {

Offered::Offered(Root& root) {
  if (!root.catalog().compiled) return;
  known_ = true;
  const Universe& universe = root.universe();
  std::string_view before;
  for (const PackageId id : universe.all()) {
    if (!universe.offered(id) || universe[id].offers.front().repository.empty()) continue;
    const std::string_view name = universe.name(id);
    const Version& version = universe.package(id).version;
    if (newest_.empty() || name != before)
      newest_.emplace_back(name, version);
    else if (newest_.back().second < version)
      newest_.back().second = version;
    before = name;
  }
  std::sort(newest_.begin(), newest_.end());
  newest_.erase(
      std::unique(newest_.begin(), newest_.end(), [](const auto& a, const auto& b) { return a.first == b.first; }),
      newest_.end());
}

WhatsNew Offered::until(const Offered& later) const {
  WhatsNew found;
  auto before = newest_.begin();
  for (const auto& [name, version] : later.newest_) {
    for (; before != newest_.end() && before->first < name; ++before) found.gone.push_back(before->first);
    if (before == newest_.end() || before->first != name) {
      found.packages.push_back(name);
      continue;
    }
    if (before->second < version) found.newer.push_back(fmt::format("{} {}", name, version.text()));
    ++before;
  }
  for (; before != newest_.end(); ++before) found.gone.push_back(before->first);
  return found;
}

std::string text_of(const Advisory& advisory) {
  return fmt::format("{}{}{}", advisory.id, advisory.severity.empty() ? "" : fmt::format(" ({})", advisory.severity),
                     advisory.summary.empty() ? "" : ": " + advisory.summary);
}

namespace {

/// Of repositories that are used, each once.
std::vector<Advisory> all_advisories(Root& root) {
  std::vector<Advisory> all;
  for (const settings::Repository& one : root.repositories()) {
    if (!one.enabled) continue;
    try {
      for (Advisory& advisory : repo::advisories_of(root.files(), one)) all.push_back(std::move(advisory));
    } catch (const Error& problem) {
      root.observer().note(fmt::format("the advisories of {}: {}", one.name, problem.what()));
    }
  }
  std::stable_sort(all.begin(), all.end(), [](const Advisory& a, const Advisory& b) { return a.id < b.id; });
  all.erase(std::unique(all.begin(), all.end(), [](const Advisory& a, const Advisory& b) { return a.id == b.id; }),
            all.end());
  return all;
}

}  // namespace

std::vector<std::string> security_remarks(Root& root, const plan::Plan& plan) {
  std::vector<std::string> remarks;
  const auto all = all_advisories(root);
  if (all.empty()) return remarks;
  for (const plan::Step& step : plan.steps) {
    if (!step.brings_files()) continue;
    const auto before = Version::parse(step.before), after = Version::parse(step.after);
    for (const Advisory& one : all) {
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
  const auto all = all_advisories(root);
  if (all.empty()) return problems;
  const Universe& universe = root.universe();
  for (const PackageId id : universe.installed()) {
    const Package& package = universe.package(id);
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
