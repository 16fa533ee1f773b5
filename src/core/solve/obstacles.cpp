#include "solve/obstacles.h"

#include <algorithm>
#include <future>
#include <utility>

#include "base/parallel.h"
#include "solve/neighbourhood.h"
#include "solve/outlook.h"

namespace hambrel::solve {

class Obstacles::Search {
 public:
  Search(const Encoding& encoding, Cdcl& engine, const std::vector<PackageId>& left_behind,
         const std::vector<PackageId>& chosen)
      : chosen_(chosen),
        encoding_(encoding),
        u_(encoding.universe()),
        engine_(engine),
        left_behind_(left_behind),
        found_(left_behind.size()),
        in_(u_.size(), 0) {
    for (const PackageId id : chosen) in_[index_of(id)] = 1;
    looked_around_ = aside([this] { look_around(); });
    engine_.set_budget(encoding.request().budget);
    by_variable_.assign(engine_.variables(), kNone);
    const auto& statements = encoding.statements();
    for (std::uint32_t i = 0; i < statements.size(); ++i) {
      by_variable_[statements[i].selector.var()] = i;
      roots_.push_back(statements[i].selector);
    }
    std::vector<int> ranks;
    for (std::uint32_t i = 0; i < statements.size(); ++i) ranks.push_back(rank_of(i));
    const auto rank = [&](Lit root) { return ranks[by_variable_[root.var()]]; };
    std::stable_sort(roots_.begin(), roots_.end(), [&](Lit a, Lit b) { return rank(a) > rank(b); });
  }

  std::vector<std::optional<Obstacle>> run() {
    if (!engine_.stand_on(roots_)) return std::move(found_);
    std::vector<std::uint8_t> blocked(left_behind_.size(), 0);
    std::vector<std::size_t> order;
    cores_.resize(left_behind_.size());
    for (std::size_t i = 0; i < left_behind_.size(); ++i)
      if (engine_.ruled_out(lit(i))) {
        cores_[i] = engine_.core();
        blocked[i] = 1;
        order.push_back(i);
        met_.insert(met_.end(), engine_.core().begin(), engine_.core().end());
      }
    for (std::size_t i = 0; i < left_behind_.size(); ++i) {
      if (blocked[i] != 0) continue;  // what needs a search
      const Answer answer = solve(lit(i), {});
      if (answer == Answer::Yes) preferred_.push_back(i);
      if (answer != Answer::No) continue;
      blocked[i] = 1;
      cores_[i] = engine_.core();
      order.push_back(i);
    }
    looked_around_.get();
    // what has the fewest roots comes first, so that it is not told of those of others
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return cores_[a].size() < cores_[b].size(); });
    if (!order.empty()) keep_what_is_far(order);
    find_nearby(order, blocked);
    find_far(order, blocked);
    for (const std::size_t i : preferred_) find_preferred(i);
    return std::move(found_);
  }

 private:
  static constexpr std::uint32_t kNone = UINT32_MAX;

  /// Looks at all that is installed, beside the first questions to the engine.
  void look_around() {
    const auto& installed = u_.installed();
    for (std::size_t i = 0; i < installed.size(); ++i) {
      if (const Outlook* const known = encoding_.outlook())
        keep_what_is_reached(known->newest_offers(i), known->replacers(i), known->older(i));
      else
        keep_what_is_reached(u_.newest_offers(installed[i]), encoding_.replacers(installed[i]),
                             older_versions(u_, installed[i]));
    }
    near_names_.emplace(u_, chosen_);
  }

  Lit lit(std::size_t i) const { return encoding_.lit(left_behind_[i]); }

  /// What the upgrade brings in the place of an installed package, and what it does not lower.
  void keep_what_is_reached(Ids newest_offers, Ids replacers, Ids older) {
    for (const Ids ids : {newest_offers, replacers})
      for (const PackageId other : ids)
        if (in_[index_of(other)] != 0) reached_.push_back(encoding_.lit(other));
    for (const PackageId other : older)
      if (in_[index_of(other)] == 0 && encoding_.lit(other) != ~Encoding::truth())
        reached_.push_back(~encoding_.lit(other));
  }

  Answer solve(Lit first, const std::vector<Lit>& more) {
    std::vector<Lit> assumed{first};
    assumed.insert(assumed.end(), roots_.begin(), roots_.end());
    assumed.insert(assumed.end(), more.begin(), more.end());
    return engine_.solve(assumed);
  }

  /// Which root of several that stand against something gives way: the one with the smallest rank.
  int rank_of(std::uint32_t statement) const {
    const Encoding::Statement& one = encoding_.statements()[statement];
    switch (one.kind) {
      case Cause::Kind::Held: return 0;
      case Cause::Kind::LeftAlone: return 1;
      case Cause::Kind::Wanted: return u_.is_slot_offered(one.package) ? 4 : 2;
      default: return 3;
    }
  }

  /// An engine in which only what is near to those left behind, and to what stands against them, is open: all else is
  /// as it was chosen. Its models are models, and it makes them many times faster.
  void keep_what_is_far(const std::vector<std::size_t>& order) {
    Neighbourhood& near = *near_names_;
    for (const std::size_t i : order) near.add(u_.name_id(left_behind_[i]));
    for (const Lit one : met_)
      if (const std::uint32_t root = by_variable_[one.var()]; root != kNone)
        near.add(u_.name_id(encoding_.statements()[root].package));
    std::vector<Lit> facts;
    for (const PackageId id : encoding_.cone())
      if (!near.has(u_.name_id(id))) facts.push_back(in_[index_of(id)] != 0 ? encoding_.lit(id) : ~encoding_.lit(id));
    for (const Lit root : roots_)
      if (!near.has(u_.name_id(encoding_.statements()[by_variable_[root.var()]].package))) facts.push_back(root);
    near_ = engine_.where(facts);
    kept_ = roots_;
    kept_.insert(kept_.end(), reached_.begin(), reached_.end());
    for (std::size_t i = 0; i < left_behind_.size(); ++i) kept_.push_back(lit(i));  // and as many of these as can be
    near_->set_budget(encoding_.request().budget);
  }

  /// Is there a model in which what was left behind is there and as few roots as possible gave way?
  bool has_model(Cdcl& engine, std::size_t i) const {
    const Lit asked = lit(i);
    return engine.solve_keeping(std::span(&asked, 1), kept_) == Answer::Yes;
  }

  /// A model of the small engine in which more than one root gave way.
  struct Several {
    std::size_t i;
    std::vector<Lit> roots;
    std::vector<std::uint8_t> model;
  };

  /// While all that is far stays as it is. That several roots have to give way is then to be proved.
  void find_nearby(const std::vector<std::size_t>& order, const std::vector<std::uint8_t>& blocked) {
    std::vector<Several> several;
    std::vector<std::size_t> put_off(left_behind_.size(), 0);  // with which of the several, from 1
    std::vector<std::uint8_t> tried(engine_.variables(), 0);
    // one that comes with others may need only one of their roots: each is tried once
    const auto may_do_with_one = [&](std::size_t i) {
      std::vector<Lit> both;
      for (const Lit root : several[put_off[i] - 1].roots)
        if (std::find(cores_[i].begin(), cores_[i].end(), root) != cores_[i].end()) both.push_back(root);
      return both.size() == 1 && std::exchange(tried[both.front().var()], 1) == 0;
    };
    for (const std::size_t i : order) {
      if (found_[i] || (put_off[i] != 0 && !may_do_with_one(i)) || !has_model(*near_, i)) continue;
      std::vector<Lit> roots;
      for (const Lit one : roots_)
        if (!near_->model(one)) roots.push_back(one);
      if (roots.size() == 1) {
        enter(i, *near_, blocked);
        continue;
      }
      if (put_off[i] != 0) continue;
      several.push_back({i, std::move(roots), near_->whole_model()});
      for (std::size_t k = 0; k < left_behind_.size(); ++k)
        if (blocked[k] != 0 && put_off[k] == 0 && near_->model(lit(k))) put_off[k] = several.size();
    }
    prove(several, blocked);
  }

  /// By unit propagation in the whole engine: with any of its roots in place, and all others, none can come.
  void prove(const std::vector<Several>& several, const std::vector<std::uint8_t>& blocked) {
    std::vector<std::uint8_t> any(engine_.variables(), 0);
    for (const Several& one : several)
      for (const Lit root : one.roots) any[root.var()] = 1;
    std::vector<Lit> never, sometimes;
    for (const Lit root : roots_) (any[root.var()] != 0 ? sometimes : never).push_back(root);
    if (several.empty() || !engine_.stand_on(never)) return;
    for (const Several& one : several) {
      if (found_[one.i]) continue;
      std::vector<Lit> assumed{lit(one.i)};
      for (const Lit root : sometimes)
        if (std::find(one.roots.begin(), one.roots.end(), root) == one.roots.end()) assumed.push_back(root);
      const bool all_needed = std::all_of(one.roots.begin(), one.roots.end(), [&](Lit root) {
        assumed.push_back(root);
        const bool needed = engine_.ruled_out(assumed);
        assumed.pop_back();
        return needed;
      });
      if (!all_needed) continue;
      near_->restore_model(one.model);
      enter(one.i, *near_, blocked);
    }
  }

  /// The others, two at a time. What the first of two explains, too, is not asked of the second.
  void find_far(const std::vector<std::size_t>& order, const std::vector<std::uint8_t>& blocked) {
    std::vector<std::size_t> left;
    for (const std::size_t i : order)
      if (!found_[i]) left.push_back(i);
    if (left.empty()) return;
    Cdcl second = engine_;
    for (auto first = left.begin(); first != left.end();) {
      const auto is_open = [&](std::size_t i) { return !found_[i]; };
      const auto other = std::find_if(first + 1, left.end(), is_open);
      // behind this thread, if the system sees fit: each takes a fraction of a millisecond, which is what it takes to
      // go to another processor and to come back
      std::future<bool> others;
      if (other != left.end())
        others =
            std::async(std::launch::async | std::launch::deferred, [&, i = *other] { return has_model(second, i); });
      if (has_model(engine_, *first)) enter(*first, engine_, blocked);
      if (other == left.end()) return;
      if (others.get() && !found_[*other]) enter(*other, second, blocked);
      first = std::find_if(other + 1, left.end(), is_open);
    }
  }

  /// By a model: the roots that have to give way, and no more of them. All that the model has, which is the proof, is
  /// explained by the same.
  void enter(std::size_t i, const Cdcl& model, const std::vector<std::uint8_t>& blocked) {
    model_ = &model;
    std::vector<std::uint32_t> given_up;
    for (const Lit one : roots_)
      if (!model.model(one)) given_up.push_back(by_variable_[one.var()]);
    if (given_up.empty()) return;
    std::reverse(given_up.begin(), given_up.end());
    const bool keeps_all = std::all_of(reached_.begin(), reached_.end(), [&](Lit one) { return model.model(one); });
    const Obstacle obstacle = obstacle_of(given_up, keeps_all);
    std::vector<std::size_t> same;
    for (std::size_t k = 0; k < left_behind_.size(); ++k)
      if (k == i || (blocked[k] != 0 && !found_[k] && model.model(lit(k)))) same.push_back(k);
    for (const std::size_t k : same) {
      found_[k] = obstacle;
      found_[k]->together = keeps_all ? same.size() : 0;
    }
  }

  /// By the last model, in which the roots have given way.
  Obstacle obstacle_of(const std::vector<std::uint32_t>& given_up, bool keeps_all) const {
    Obstacle obstacle;
    std::vector<std::size_t> statements(given_up.begin(), given_up.end());
    obstacle.roots = encoding_.causes(statements);
    obstacle.together = keeps_all ? 1 : 0;
    const Encoding::Statement& first = encoding_.statements()[given_up.front()];
    if (first.kind == Cause::Kind::Requires) return obstacle;
    const PackageId old = first.package;
    obstacle.in_place = old;
    for (const RelationId relation : u_.relations(old, RelationList::Requires)) {
      const Ids providers = u_.matching(relation);
      if (std::any_of(providers.begin(), providers.end(), [&](PackageId id) { return is_there(id); })) continue;
      if (!obstacle.unmet) obstacle.unmet = relation;
    }
    if (!obstacle.unmet) find_against(obstacle, old);
    if (!obstacle.unmet && !obstacle.against) find_needs(obstacle, old);
    return obstacle;
  }

  bool is_there(PackageId id) const { return model_->model(encoding_.lit(id)); }

  /// What of the model the old version is in conflict with.
  void find_against(Obstacle& obstacle, PackageId old) const {
    for (const RelationId relation : u_.relations(old, RelationList::Conflicts))
      for (const PackageId id : u_.matching(relation))
        if (is_there(id) && u_.name_id(id) != u_.name_id(old)) {
          obstacle.against = id;
          obstacle.by_old = true;
          return;
        }
    for (const PackageId id : encoding_.cone())
      for (const RelationList list : {RelationList::Conflicts, RelationList::Replaces})
        if (is_there(id) && u_.name_id(id) != u_.name_id(old))
          for (const RelationId relation : u_.relations(id, list))
            if (const Ids against = u_.matching(relation);
                std::find(against.begin(), against.end(), old) != against.end()) {
              obstacle.against = id;
              return;
            }
  }

  /// What of the model requires another version than the old one.
  void find_needs(Obstacle& obstacle, PackageId old) const {
    for (const PackageId id : encoding_.cone()) {
      if (!is_there(id)) continue;
      for (const RelationId relation : u_.relations(id, RelationList::Requires)) {
        const Ids providers = u_.matching(relation);
        const bool by_another = std::any_of(providers.begin(), providers.end(),
                                            [&](PackageId one) { return is_there(one) && u_.same_slot(one, old); });
        if (!by_another || std::find(providers.begin(), providers.end(), old) != providers.end()) continue;
        obstacle.against = id;
        obstacle.needs = relation;
        return;
      }
    }
  }

  /// Nothing that was decided is in its way, but something else would be left behind for it.
  void find_preferred(std::size_t i) {
    if (solve(lit(i), reached_) != Answer::No) return;
    Obstacle obstacle;
    for (const Lit one : engine_.core())
      for (const PackageId id : encoding_.cone())
        if (one != lit(i) && encoding_.lit(id).var() == one.var() && obstacle.instead.empty())
          obstacle.instead.push_back(id);
    if (!obstacle.instead.empty()) found_[i] = std::move(obstacle);
  }

  const std::vector<PackageId>& chosen_;
  const Encoding& encoding_;
  const Universe& u_;
  Cdcl& engine_;
  std::optional<Cdcl> near_;             // the same, where only what is near is open
  const Cdcl* model_ = nullptr;          // whose last model is looked at
  std::vector<Lit> met_;                 // what unit propagation met
  std::vector<std::vector<Lit>> cores_;  // the same for each of those left behind
  const std::vector<PackageId>& left_behind_;
  std::vector<std::optional<Obstacle>> found_;
  std::vector<std::uint8_t> in_;
  std::vector<std::uint32_t> by_variable_;   // the statement of a selector
  std::vector<Lit> roots_, reached_, kept_;  // kept_: in the order of their weight
  std::vector<std::size_t> preferred_;
  std::optional<Neighbourhood> near_names_;
  Aside<void> looked_around_;
};

Obstacles::Obstacles(std::shared_ptr<const Encoding> encoding, Cdcl engine)
    : encoding_(std::move(encoding)), engine_(std::move(engine)) {}

std::vector<std::optional<Obstacle>> Obstacles::explain(const std::vector<PackageId>& left_behind,
                                                        const std::vector<PackageId>& chosen) {
  return Search(*encoding_, engine_, left_behind, chosen).run();
}

}  // namespace hambrel::solve
