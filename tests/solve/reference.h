// The optimum of a small universe by trying every set: a second reading of docs/solver.md, with nothing taken from the
// solver but its questions. Works on manifests, not on compiled relations.
#pragma once

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "solve/request.h"

namespace hambrel::test {

class Reference {
 public:
  using Set = std::uint32_t;  // a bit for each package

  Reference(const Universe& u, const solve::Request& request) : request_(request) {
    ids_ = u.all();
    for (const PackageId id : ids_) all_.push_back(u[id]);
    for (const View::Repository& one : u.view().repositories)
      if (one.enabled) ranks_.insert(one.rank);
    prepare();
  }

  struct Best {
    std::map<solve::Level, std::uint64_t> values;
    std::vector<PackageId> chosen;
  };

  bool acceptable(Set set) const {
    if ((set & never_) != 0 || (set & always_) != always_) return false;
    for (const Set clause : at_least_one_)
      if ((set & clause) == 0) return false;
    for (std::size_t i = 0; i < all_.size(); ++i) {
      if ((set >> i & 1U) == 0) continue;
      if ((set & against_[i]) != 0) return false;
      for (const Set providers : needs_[i])
        if ((set & providers) == 0) return false;
    }
    for (const auto& [slot, most] : slots_)
      if (count(set & slot) > most) return false;
    return true;
  }

  bool acceptable(const std::vector<PackageId>& chosen) const { return acceptable(set_of(chosen)); }
  bool any_acceptable() const {
    for (Set set = 0; set >> all_.size() == 0; ++set)
      if (acceptable(set)) return true;
    return false;
  }

  std::optional<Best> best(const std::vector<solve::Level>& levels) const {
    std::optional<Set> found;
    std::vector<std::uint64_t> least;
    for (Set set = 0; set >> all_.size() == 0; ++set) {
      if (!acceptable(set)) continue;
      std::vector<std::uint64_t> values;
      for (const solve::Level level : levels) values.push_back(value(level, set));
      // of equals: where the last package that differs is left out
      if (!found || values < least || (values == least && last_difference_is_out(set, *found))) {
        found = set;
        least = values;
      }
    }
    if (!found) return std::nullopt;
    Best best;
    for (std::size_t i = 0; i < levels.size(); ++i) best.values[levels[i]] = least[i];
    for (std::size_t i = 0; i < all_.size(); ++i)
      if ((*found >> i & 1U) != 0) best.chosen.push_back(ids_[i]);
    return best;
  }

 private:
  static std::uint32_t count(Set set) { return static_cast<std::uint32_t>(__builtin_popcount(set)); }
  static Set bit(std::size_t i) { return Set{1} << i; }
  static bool last_difference_is_out(Set a, Set b) {
    const Set differ = a ^ b;
    return differ != 0 && (a >> (31 - __builtin_clz(differ)) & 1U) == 0;
  }

  Set set_of(const std::vector<PackageId>& chosen) const {
    Set set = 0;
    for (std::size_t i = 0; i < ids_.size(); ++i)
      if (std::find(chosen.begin(), chosen.end(), ids_[i]) != chosen.end()) set |= bit(i);
    return set;
  }

  const Package& package(std::size_t i) const { return all_[i].package; }
  static std::string slot_of(const Candidate& one) { return one.package.name; }  // one architecture only
  bool installed(std::size_t i) const { return all_[i].installed.has_value(); }
  bool wanted(std::size_t i) const { return installed(i) && all_[i].installed->reason == Reason::Wanted; }
  bool replaces(std::size_t i, std::size_t old) const {
    if (package(i).name == package(old).name) return false;
    for (const Constraint& c : package(i).replaces)
      if (c.name == package(old).name && c.allows(package(old).version)) return true;
    return false;
  }
  bool target(std::size_t i) const {
    for (const solve::Target& one : request_.install)
      if (std::find(one.candidates.begin(), one.candidates.end(), ids_[i]) != one.candidates.end()) return true;
    return false;
  }
  bool may_choose(std::size_t i) const { return installed(i) || all_[i].offered() || target(i); }
  bool named(const solve::Names& names, std::size_t i) const { return names.contains(package(i).name); }
  bool upgrades(std::size_t i) const {
    return (request_.upgrade_all || named(request_.upgrade, i)) && !named(request_.except, i);
  }
  bool stays_put(std::size_t i) const {
    return named(request_.except, i) || (all_[i].installed->hold && !named(request_.release, i));
  }
  Set versions(std::size_t i) const {
    Set set = 0;
    for (std::size_t k = 0; k < all_.size(); ++k)
      if (package(k).name == package(i).name) set |= bit(k);
    return set;
  }
  Set not_older(std::size_t i) const {
    Set set = 0;
    for (std::size_t k = 0; k < all_.size(); ++k)
      if (package(k).name == package(i).name && !(package(k).version < package(i).version)) set |= bit(k);
    return set;
  }
  Set replacers(std::size_t i) const {
    Set set = 0;
    for (std::size_t k = 0; k < all_.size(); ++k)
      if (replaces(k, i) && may_choose(k)) set |= bit(k);
    return set;
  }
  Set providers(const Relation& relation) const {
    Set set = 0;
    for (std::size_t k = 0; k < all_.size(); ++k)
      if (satisfies(package(k), relation)) set |= bit(k);
    return set;
  }
  bool stray(std::size_t i) const {
    for (std::size_t k = 0; k < all_.size(); ++k)
      if ((versions(i) & bit(k)) != 0 && all_[k].offered()) return false;
    return true;
  }
  bool droppable(std::size_t i) const { return request_.drop_strays && wanted(i) && stray(i); }

  void prepare() {
    needs_.resize(all_.size());
    against_.resize(all_.size());
    for (std::size_t i = 0; i < all_.size(); ++i) {
      if (!may_choose(i) || named(request_.remove, i)) never_ |= bit(i);
      for (const Relation& relation : package(i).requires_) needs_[i].push_back(providers(relation));
      for (std::size_t k = 0; k < all_.size(); ++k) {
        if (package(k).name == package(i).name) {
          const bool side_by_side = package(i).parallel > 1 && package(k).parallel > 1;
          if (k != i && !side_by_side) against_[i] |= bit(k);
          continue;
        }
        bool clash = replaces(i, k);
        for (const Constraint& c : package(i).conflicts) clash = clash || satisfies(package(k), c);
        if (clash) {
          against_[i] |= bit(k);
          against_[k] |= bit(i);
        }
      }
      std::uint32_t most = 1;
      for (std::size_t k = 0; k < all_.size(); ++k)
        if ((versions(i) & bit(k)) != 0) most = std::max(most, package(k).parallel);
      slots_.emplace_back(versions(i), most);
      if (!installed(i)) continue;
      if (stays_put(i)) always_ |= bit(i);
      if (package(i).essential && !named(request_.allow_essential, i)) at_least_one_.push_back(not_older(i));
      if (wanted(i) && !named(request_.remove, i) && !droppable(i)) at_least_one_.push_back(versions(i) | replacers(i));
    }
    for (const solve::Target& one : request_.install) at_least_one_.push_back(set_of(one.candidates));
  }

  std::uint32_t lag(std::size_t i) const {
    std::set<std::string> newer;
    for (std::size_t k = 0; k < all_.size(); ++k)
      if (package(k).name == package(i).name && may_choose(k) && package(k).version > package(i).version)
        newer.insert(package(k).version.text());
    return static_cast<std::uint32_t>(newer.size());
  }

  bool name_asked(std::size_t i) const {
    for (std::size_t k = 0; k < all_.size(); ++k)
      if (package(k).name == package(i).name && target(k)) return true;
    return named(request_.remove, i) || named(request_.upgrade, i);
  }

  bool gone(std::size_t i, Set set) const {
    if (package(i).parallel > 1) return (set & bit(i)) == 0;
    return (set & (versions(i) | replacers(i))) == 0;
  }

  bool is_new_name(std::size_t i) const {
    for (std::size_t k = 0; k < all_.size(); ++k)
      if ((versions(i) & bit(k)) != 0 && installed(k)) return false;
    return true;
  }

  std::uint64_t value(solve::Level level, Set set) const {
    std::uint64_t sum = 0;
    const auto in = [&](std::size_t i) { return (set & bit(i)) != 0; };
    for (std::size_t i = 0; i < all_.size(); ++i) {
      const bool fresh = in(i) && !installed(i);
      switch (level) {
        case solve::Level::StraysDropped: sum += installed(i) && droppable(i) && gone(i, set) ? 1 : 0; break;
        case solve::Level::Removed:
          sum += installed(i) && !named(request_.remove, i) && !droppable(i) && gone(i, set) ? 1 : 0;
          break;
        case solve::Level::Downgraded: {
          bool asked = false;
          for (std::size_t k = 0; k < all_.size(); ++k) asked = asked || ((versions(i) & bit(k)) != 0 && target(k));
          for (std::size_t k = 0; k < all_.size(); ++k)
            if (installed(i) && !asked && package(i).parallel == 1 && in(k) && (versions(i) & bit(k)) != 0 &&
                package(k).version < package(i).version)
              ++sum;
          break;
        }
        case solve::Level::NotNewest:
          if (installed(i) && upgrades(i) && !stays_put(i)) {
            if (replacers(i) != 0) {
              sum += (set & replacers(i)) == 0 ? 1 : 0;
            } else {
              std::optional<std::size_t> newest;
              for (std::size_t k = 0; k < all_.size(); ++k)
                if ((versions(i) & bit(k)) != 0 && all_[k].offered() && package(k).version > package(i).version &&
                    (!newest || package(k).version > package(*newest).version))
                  newest = k;
              sum += newest && !in(*newest) ? 1 : 0;
            }
          }
          break;
        case solve::Level::AskedLag:
          for (const solve::Target& one : request_.install) {
            const Set candidates = set_of(one.candidates);
            std::set<std::string> better;
            for (std::size_t k = 0; k < all_.size(); ++k)
              if ((candidates & versions(i) & bit(k)) != 0 && package(k).version > package(i).version)
                better.insert(package(k).version.text());
            if (in(i) && (candidates & bit(i)) != 0) sum += better.size();
          }
          for (std::size_t k = 0; k < all_.size(); ++k)
            if (installed(k) && named(request_.upgrade, k) && (versions(k) & bit(i)) != 0 && in(i) && may_choose(i))
              sum += lag(i);
          break;
        case solve::Level::Touched: sum += installed(i) && !name_asked(i) && !upgrades(i) && !in(i) ? 1 : 0; break;
        case solve::Level::RecommendedMissing:
          if (fresh && request_.recommended)
            for (const Relation& relation : package(i).recommends) {
              bool old = false;
              for (std::size_t k = 0; k < all_.size(); ++k)
                if (installed(k) && (versions(i) & bit(k)) != 0)
                  for (const Relation& other : package(k).recommends) old = old || other.text() == relation.text();
              Set possible = 0;
              for (std::size_t k = 0; k < all_.size(); ++k)
                if ((providers(relation) & bit(k)) != 0 && may_choose(k)) possible |= bit(k);
              if (!old && possible != 0 && (set & possible) == 0) ++sum;
            }
          break;
        case solve::Level::VersionLag: sum += fresh || (in(i) && upgrades(i)) ? lag(i) : 0; break;
        case solve::Level::RepositoryRank:
          if (fresh && ranks_.size() > 1) {
            std::uint32_t best = UINT32_MAX;
            for (const Offer& offer : all_[i].offers) best = std::min(best, offer.rank);
            sum += static_cast<std::uint64_t>(std::distance(ranks_.begin(), ranks_.lower_bound(best)));
          }
          break;
        case solve::Level::NewPackages: sum += fresh && is_new_name(i) ? 1 : 0; break;
        case solve::Level::LaterAlternatives:
          if (fresh)
            for (const Relation& relation : package(i).requires_) {
              Set so_far = 0;
              for (std::size_t k = 0; k + 1 < relation.alternatives.size(); ++k) {
                so_far |= providers({{relation.alternatives[k]}});
                if ((set & so_far) == 0) ++sum;
              }
            }
          break;
        case solve::Level::Download: sum += fresh ? all_[i].offers.front().size : 0; break;
      }
    }
    return sum;
  }

  const solve::Request& request_;
  std::vector<PackageId> ids_;
  std::vector<Candidate> all_;
  std::set<std::uint32_t> ranks_;
  std::vector<std::vector<Set>> needs_;
  std::vector<Set> against_, at_least_one_;
  std::vector<std::pair<Set, std::uint32_t>> slots_;
  Set never_ = 0, always_ = 0;
};

}  // namespace hambrel::test
