#include "plan/held_back.h"

#include <fmt/format.h>

#include <deque>
#include <map>

namespace hambrel::plan {

namespace {

class Search {
 public:
  Search(const Universe& universe, const std::vector<PackageId>& chosen, const std::vector<HeldBack>& held_back)
      : universe_(universe), in_(universe.size(), 0) {
    for (const PackageId id : chosen) in_[index_of(id)] = 1;
    std::vector<std::uint8_t> in_question(universe.size(), 0);
    for (const HeldBack& one : held_back)
      for (const PackageId old : universe.slot(one.offered_id)) in_question[index_of(old)] = in_[index_of(old)];
    for (const PackageId id : chosen)
      for (const RelationId relation : universe.relations(id, RelationList::Requires))
        universe.each_match(relation, [&](PackageId provider) {
          if (in_question[index_of(provider)] != 0 && provider != id) users_[provider].emplace_back(id, relation);
        });
  }

  using End = std::pair<std::string, std::string>;

  /// The end of the shortest chain, as a sentence, and the name of what stays. A chain that meets one that was followed
  /// before goes on as that did.
  End run(PackageId start) {
    std::deque<PackageId> queue{start};
    std::map<PackageId, PackageId> from{{start, start}};
    while (!queue.empty()) {
      const PackageId id = queue.front();
      queue.pop_front();
      std::vector<PackageId> next;
      const auto known = ends_.find(id);
      auto end = known != ends_.end() ? std::optional(known->second) : look(id, next);
      if (end) {
        for (PackageId at = id;; at = from.at(at)) {
          ends_.emplace(at, *end);
          if (at == start) return std::move(*end);
        }
      }
      for (const PackageId one : next)
        if (from.emplace(one, id).second) queue.push_back(one);
    }
    return {};
  }

 private:
  bool stays(PackageId id) const { return in_[index_of(id)] != 0; }
  std::string title(PackageId id) const { return fmt::format("{} {}", universe_.name(id), universe_.version(id)); }
  std::string standing(PackageId id) const {
    if (universe_.held(id)) return title(id) + ", which is held,";
    if (!universe_.wanted(id)) return title(id);
    const auto versions = universe_.slot(id);
    for (const PackageId one : versions)
      if (universe_.offered(one)) return title(id) + " (wanted)";
    return title(id) + " (wanted, and no repository offers it any more)";
  }

  /// What stands against this version; versions that would have to come or go along are put on `next`.
  std::optional<End> look(PackageId id, std::vector<PackageId>& next) {
    for (const RelationId relation : universe_.relations(id, RelationList::Requires)) {
      bool met = false;
      std::vector<PackageId> could;
      universe_.each_match(relation, [&](PackageId one) {
        met = met || stays(one);
        if (universe_.is_installed(one) || universe_.offered(one)) could.push_back(one);
      });
      if (met) continue;
      if (could.empty())
        return End{fmt::format("{} requires {}, which is not available", title(id), universe_.text(relation)),
                   std::string(universe_.name(id))};
      next.insert(next.end(), could.begin(), could.end());
    }
    for (const RelationId relation : universe_.relations(id, RelationList::Conflicts)) {
      std::optional<PackageId> other;
      universe_.each_match(relation, [&](PackageId one) {
        if (stays(one) && universe_.name_id(one) != universe_.name_id(id)) other = one;
      });
      if (other)
        return End{fmt::format("{} conflicts with {}", title(id), standing(*other)),
                   std::string(universe_.name(*other))};
    }
    std::optional<End> end;
    for (const NameId name : universe_.answers_to(id))
      universe_.each_against(name, [&](PackageId one, RelationId relation, bool replaces) {
        bool hit = false;
        universe_.each_match(relation, [&](PackageId match) { hit = hit || match == id; });
        if (hit && stays(one) && !end && universe_.name_id(one) != universe_.name_id(id))
          end = End{fmt::format("{} {} {}", standing(one), replaces ? "replaces" : "conflicts with", title(id)),
                    std::string(universe_.name(one))};
      });
    if (end) return end;
    return look_at_users(id, next);
  }

  /// Who needs the version whose place this one would take.
  std::optional<End> look_at_users(PackageId id, std::vector<PackageId>& next) {
    if (universe_.parallel(id) > 1) return std::nullopt;
    for (const PackageId old : universe_.slot(id)) {
      if (!stays(old) || old == id) continue;
      if (universe_.held(old)) return End{standing(old) + " stays", std::string(universe_.name(old))};
      const auto users = users_.find(old);
      if (users == users_.end()) continue;
      for (const auto& [user, relation] : users->second) {
        bool met = false;  // by something else that stays, or by the new version as well
        universe_.each_match(relation, [&](PackageId one) { met = met || one == id || (stays(one) && one != old); });
        if (met) continue;
        const auto newer = universe_.newer_offer(user);
        if (newer && !stays(*newer) && !universe_.held(user)) {
          next.push_back(*newer);
          continue;
        }
        return End{fmt::format("{} requires {}", standing(user), universe_.text(relation)),
                   std::string(universe_.name(user))};
      }
    }
    return std::nullopt;
  }

  const Universe& universe_;
  std::vector<std::uint8_t> in_;
  std::map<PackageId, End> ends_;
  std::map<PackageId, std::vector<std::pair<PackageId, RelationId>>> users_;
};

}  // namespace

void explain_held_back(const Universe& universe, const std::vector<PackageId>& chosen,
                       std::vector<HeldBack>& held_back) {
  if (held_back.empty()) return;
  Search search(universe, chosen, held_back);
  for (HeldBack& one : held_back)
    if (!one.held) std::tie(one.why, one.by) = search.run(one.offered_id);
}

}  // namespace hambrel::plan
