#include "operations/listed.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/parallel.h"
#include "base/text.h"
#include "model/license.h"
#include "model/search.h"
#include "os/host.h"
#include "plan/plan.h"
#include "repo/cache.h"
#include "solve/solver.h"

namespace hambrel::operations {

Conditions::Condition Conditions::parse(std::string_view text) {
  static const std::vector<std::string> plain{
      "installed", "available", "upgradable", "wanted", "pulled-in",
      "unneeded",  "held",      "stray",      "broken"};  // in the order of Kind
  static const std::vector<std::pair<std::string_view, Kind>> with_value{
      {"name", Kind::Name},         {"repo", Kind::Repo},       {"channel", Kind::Channel}, {"arch", Kind::Arch},
      {"category", Kind::Category}, {"license", Kind::License}, {"group", Kind::Group}};
  Condition condition;
  std::string_view rest = text;
  while (rest.starts_with("not:")) {
    condition.negated = !condition.negated;
    rest.remove_prefix(4);
  }
  if (rest.starts_with("size>") || rest.starts_with("size<")) {
    condition.kind = rest[4] == '>' ? Kind::Larger : Kind::Smaller;
    const auto bytes = parse_size(rest.substr(5));
    if (!bytes)
      throw Error(ErrorCode::Usage, fmt::format("{}: must be a size", printable(text)), {},
                  "for example 'size>500K' or 'size>1.5M'");
    condition.bytes = *bytes;
    return condition;
  }
  const auto colon = rest.find(':');
  const std::string word(rest.substr(0, colon));
  if (colon == std::string_view::npos) {
    const auto found = std::find(plain.begin(), plain.end(), word);
    condition.kind = static_cast<Kind>(found - plain.begin());
    if (found != plain.end()) return condition;
  }
  for (const auto& [known, kind] : with_value) {
    if (colon == std::string_view::npos || known != word || colon + 1 == rest.size()) continue;
    condition.kind = kind;
    condition.value = rest.substr(colon + 1);
    return condition;
  }
  const std::string near = did_you_mean(word, plain);
  throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not a condition of list", printable(text)), {},
              near.empty()
                  ? "conditions: installed available upgradable wanted pulled-in unneeded held stray broken shelved "
                    "leftover generated vulnerable name:GLOB repo:NAME channel:NAME arch:NAME category:GLOB license:ID "
                    "group:NAME 'size>SIZE' 'size<SIZE' not:CONDITION"
                  : near);
}

Conditions::Conditions(const Universe& universe, const std::vector<std::string>& words) : universe_(universe) {
  for (const std::string& word : words) all_.push_back(parse(word));
  if (all_.empty()) all_.push_back({});
  const auto any_is = [&](auto holds) { return std::any_of(all_.begin(), all_.end(), holds); };
  if (any_is([](const Condition& one) { return one.kind == Kind::Unneeded; })) {
    for (const PackageId id : solve::unneeded_of(universe, universe.installed())) unneeded_.insert(id);
  }
  if (any_is([](const Condition& one) { return one.kind == Kind::Broken; }))
    for (const PackageId id : plan::troubled(universe, universe.installed())) broken_.insert(id);
  const bool offers = any_is([](const Condition& one) {
    return !one.negated && (one.kind == Kind::Available || one.kind == Kind::Repo || one.kind == Kind::Channel);
  });
  everything_ = offers || any_is([](const Condition& one) { return one.kind == Kind::Installed && one.negated; });
  const bool about_installed = any_is([](const Condition& one) {
    static const std::set<Kind> kOfAll{Kind::Name,     Kind::Repo,    Kind::Channel, Kind::Arch,
                                       Kind::Category, Kind::License, Kind::Group};
    return !kOfAll.contains(one.kind);
  });
  everything_ = everything_ || !about_installed;
  about_size_ = any_is([](const Condition& one) { return one.bytes > 0; });
  about_holds_ = any_is([](const Condition& one) { return one.kind == Kind::Held && !one.negated; });
}

std::vector<PackageId> Conditions::listed() const {
  constexpr std::size_t kFew = 1000;  // a thread costs as much as some hundred of them
  const unsigned workers = os::processors();
  if (!everything_) {
    const std::vector<PackageId>& installed = universe_.installed();
    return gathered<PackageId>(installed.size(), workers, kFew, [&](std::size_t i, std::vector<PackageId>& ids) {
      if (lists(installed[i])) ids.push_back(installed[i]);
    });
  }
  const std::vector<NameId> all = names();
  std::vector<PackageId> ids = gathered<PackageId>(
      all.size(), workers, kFew, [&](std::size_t i, std::vector<PackageId>& found) { add_of(all[i], found); });
  universe_.sort(ids);
  return ids;
}

/// Of all that could be listed, each once.
std::vector<NameId> Conditions::names() const {
  for (const Condition& one : all_)  // a plain start of the name saves looking at all others
    if (one.kind == Kind::Name && !one.negated)
      return universe_.names_with_prefix(one.value.substr(0, one.value.find_first_of("*?")));
  std::vector<NameId> names;
  for (const PackageId id : universe_.all())
    if (names.empty() || names.back() != universe_.name_id(id)) names.push_back(universe_.name_id(id));
  return names;
}

bool Conditions::lists(PackageId id) const {
  return std::all_of(all_.begin(), all_.end(),
                     [&](const Condition& condition) { return holds(condition, id) != condition.negated; });
}

void Conditions::add_of(NameId name, std::vector<PackageId>& ids) const {
  if (const auto lone = lone_version(universe_, name)) {
    if (universe_.visible(*lone) && lists(*lone)) ids.push_back(*lone);
    return;
  }
  bool offered = false;
  const auto versions = universe_.versions_of(name);
  for (const PackageId id : versions) {
    const bool newest = universe_.offered(id) && !offered;
    offered = offered || universe_.offered(id);
    const bool could_be =
        universe_.is_installed(id) || newest || (id == versions.front() && representative(universe_, name) == id);
    if (could_be && lists(id)) ids.push_back(id);
  }
}

bool Conditions::holds(const Condition& condition, PackageId id) const {
  const bool installed = universe_.is_installed(id);
  switch (condition.kind) {
    case Kind::Installed: return installed || (condition.negated && universe_.installed_of(universe_.name(id)));
    case Kind::Available: return universe_.offered(id);
    case Kind::Upgradable: return installed && universe_.newer_offer(id);
    case Kind::Wanted: return installed && universe_.wanted(id);
    case Kind::PulledIn: return installed && !universe_.wanted(id);
    case Kind::Unneeded: return unneeded_.contains(id);
    case Kind::Held: return installed && universe_.held(id);
    case Kind::Stray: return installed && !universe_.is_slot_offered(id);
    case Kind::Name: return glob_match(condition.value, universe_.name(id));
    case Kind::Repo:
    case Kind::Channel: return has_offer(condition, id);
    case Kind::Arch: return universe_.architecture(id) == condition.value;
    case Kind::Broken: return broken_.contains(id);
    case Kind::Category: return glob_match(condition.value, universe_.package(id).category);
    case Kind::License: {
      const std::string& license = universe_.package(id).license;
      return condition.value == "free" ? is_free_license(license) : names_license(license, condition.value);
    }
    case Kind::Group: return is_member(condition.value, id);
    case Kind::Larger: return universe_.installed_size(id) > condition.bytes;
    case Kind::Smaller: return universe_.installed_size(id) < condition.bytes;
  }
  return false;
}

bool Conditions::has_offer(const Condition& condition, PackageId id) const {
  for (std::size_t i = 0; i < universe_.offer_count(id); ++i) {
    const auto offer = universe_.offer(id, i);
    const std::string_view has = condition.kind == Kind::Channel ? offer.channel : offer.repository;
    if (offer.enabled && glob_match(condition.value, has)) return true;
  }
  return false;
}

bool Conditions::is_member(const std::string& group, PackageId id) const {
  for (const std::string_view more : {std::string_view(), kWithOptional})
    for (const PackageId one : universe_.versions_of(std::string(kGroup) + group + std::string(more))) {
      if (!universe_.is_installed(one) && !universe_.offered(one)) continue;
      for (const Relation& member : universe_.package(one).requires_)
        if (const std::string& name = member.alternatives.front().name;
            name == universe_.name(id) && name != std::string(kGroup) + group)
          return true;
    }
  return false;
}

void sort_by(const Universe& universe, Order order, std::vector<PackageId>& ids) {
  if (order == Order::Name) return;
  const auto key = [&](PackageId id) {
    if (order == Order::Size) return static_cast<std::int64_t>(universe.installed_size(id));
    return universe.is_installed(id) ? universe[id].installed->time : 0;
  };
  std::stable_sort(ids.begin(), ids.end(), [&](PackageId a, PackageId b) { return key(a) > key(b); });
}

DiskUse::DiskUse(Root& root) : universe_(root.universe()), idle_(solve::unneeded_of(universe_, universe_.installed())) {
  for (const repo::CachedFile& one : repo::cached_files(root.files())) cached_[one.name] += one.size;
}

DiskUse::Of DiskUse::of(const std::vector<PackageId>& ids) const {
  Of result;
  result.freed = plan::freed_by(universe_, ids, idle_);
  std::set<std::string> names;
  for (const PackageId id : result.freed.packages)
    if (names.emplace(universe_.name(id)).second)
      if (const auto found = cached_.find(std::string(universe_.name(id))); found != cached_.end())
        result.cached += found->second;
  for (std::size_t i = ids.size(); i < result.freed.packages.size(); ++i)
    result.others.emplace_back(universe_.name(result.freed.packages[i]));
  for (const PackageId id : result.freed.stand_on) result.needed_by.emplace_back(universe_.name(id));
  return result;
}

}  // namespace hambrel::operations
