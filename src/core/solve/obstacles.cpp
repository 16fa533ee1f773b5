#include "solve/obstacles.h"

#include <algorithm>

#include "solve/neighbourhood.h"

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
    engine_.set_budget(encoding.request().budget);
    by_variable_.assign(engine_.variables(), kNone);
    const auto& statements = encoding.statements();
    for (std::uint32_t i = 0; i < statements.size(); ++i) {
      by_variable_[statements[i].selector.var()] = i;
      roots_.push_back(statements[i].selector);
    }
    std::stable_sort(roots_.begin(), roots_.end(),
                     [&](Lit a, Lit b) { return rank_of(by_variable_[a.var()]) > rank_of(by_variable_[b.var()]); });
    for (const PackageId id : u_.installed()) keep_what_is_reached(id);
    kept_ = roots_;
    kept_.insert(kept_.end(), reached_.begin(), reached_.end());
    for (std::size_t i = 0; i < left_behind.size(); ++i) kept_.push_back(lit(i));  // and as many of these as can be
  }

  std::vector<std::optional<Obstacle>> run() {
    if (!engine_.stand_on(roots_)) return std::move(found_);
    std::vector<std::uint8_t> blocked(left_behind_.size(), 0);
    std::vector<std::size_t> order, cores(left_behind_.size(), 0);  // how many roots unit propagation met
    for (std::size_t i = 0; i < left_behind_.size(); ++i)
      if (engine_.ruled_out(lit(i))) {
        cores[i] = engine_.core().size();
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
      cores[i] = engine_.core().size();
      order.push_back(i);
    }
    // what has the fewest roots comes first, so that it is not told of those of others
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return cores[a] < cores[b]; });
    if (!order.empty()) keep_what_is_far(order);
    for (const std::size_t i : order)
      if (!found_[i]) find_roots(i, blocked);
    for (const std::size_t i : preferred_) find_preferred(i);
    return std::move(found_);
  }

 private:
  static constexpr std::uint32_t kNone = UINT32_MAX;

  Lit lit(std::size_t i) const { return encoding_.lit(left_behind_[i]); }

  /// What the upgrade brings, and what it does not lower.
  void keep_what_is_reached(PackageId id) {
    for (const PackageId newest : u_.newest_offers(id))
      if (in_[index_of(newest)] != 0) reached_.push_back(encoding_.lit(newest));
    for (const PackageId other : encoding_.replacers(id))
      if (in_[index_of(other)] != 0) reached_.push_back(encoding_.lit(other));
    for (const PackageId other : u_.slot(id))
      if (in_[index_of(other)] == 0 && order_versions(u_.version(other), u_.version(id)) < 0 &&
          encoding_.lit(other) != ~Encoding::truth())
        reached_.push_back(~encoding_.lit(other));
  }

  Answer solve(Lit first, const std::vector<Lit>& more) {
    std::vector<Lit> assumed{first};
    assumed.insert(assumed.end(), roots_.begin(), roots_.end());
    assumed.insert(assumed.end(), more.begin(), more.end());
    return engine_.solve(assumed);
  }

  bool is_stray(PackageId id) const {
    const Ids versions = u_.slot(id);
    return std::none_of(versions.begin(), versions.end(), [&](PackageId one) { return u_.offered(one); });
  }

  /// Which root of several that stand against something gives way: the one with the smallest rank.
  int rank_of(std::uint32_t statement) const {
    const Encoding::Statement& one = encoding_.statements()[statement];
    switch (one.kind) {
      case Cause::Kind::Held: return 0;
      case Cause::Kind::LeftAlone: return 1;
      case Cause::Kind::Wanted: return is_stray(one.package) ? 2 : 4;
      default: return 3;
    }
  }

  /// An engine in which only what is near to those left behind, and to what stands against them, is open: all else is
  /// as it was chosen. Its models are models, and it makes them many times faster.
  void keep_what_is_far(const std::vector<std::size_t>& order) {
    Neighbourhood near(u_, chosen_);
    for (const std::size_t i : order) near.add(u_.name_id(left_behind_[i]));
    for (const Lit one : met_)
      if (const std::uint32_t root = by_variable_[one.var()]; root != kNone)
        near.add(u_.name_id(encoding_.statements()[root].package));
    near_ = engine_;
    for (const PackageId id : encoding_.cone())
      if (!near.has(u_.name_id(id))) near_->add({in_[index_of(id)] != 0 ? encoding_.lit(id) : ~encoding_.lit(id)});
    for (const Lit root : roots_)
      if (!near.has(u_.name_id(encoding_.statements()[by_variable_[root.var()]].package))) near_->add({root});
    near_->set_budget(encoding_.request().budget);
  }

  /// A model in which what was left behind is there and as few roots as possible gave way. Of several in the small
  /// engine not all may have to: that is for the whole one to say.
  const Cdcl* model_with(Lit asked) {
    const auto given_up = [&](const Cdcl& engine) {
      return std::count_if(roots_.begin(), roots_.end(), [&](Lit one) { return !engine.model(one); });
    };
    if (near_->solve_keeping(std::span(&asked, 1), kept_) == Answer::Yes && given_up(*near_) == 1) return &*near_;
    return engine_.solve_keeping(std::span(&asked, 1), kept_) == Answer::Yes ? &engine_ : nullptr;
  }

  /// The roots that have to give way, and no more of them. All that the model has, which is the proof, is explained by
  /// the same.
  void find_roots(std::size_t i, const std::vector<std::uint8_t>& blocked) {
    const Cdcl* const model = model_with(lit(i));
    if (model == nullptr) return;
    model_ = model;
    std::vector<std::uint32_t> given_up;
    for (const Lit one : roots_)
      if (!model->model(one)) given_up.push_back(by_variable_[one.var()]);
    if (given_up.empty()) return;
    std::reverse(given_up.begin(), given_up.end());
    const bool keeps_all = std::all_of(reached_.begin(), reached_.end(), [&](Lit one) { return model->model(one); });
    const Obstacle obstacle = obstacle_of(given_up, keeps_all);
    std::vector<std::size_t> same;
    for (std::size_t k = 0; k < left_behind_.size(); ++k)
      if (k == i || (blocked[k] != 0 && !found_[k] && model->model(lit(k)))) same.push_back(k);
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
  std::optional<Cdcl> near_;     // the same, where only what is near is open
  const Cdcl* model_ = nullptr;  // whose last model is looked at
  std::vector<Lit> met_;         // what unit propagation met
  const std::vector<PackageId>& left_behind_;
  std::vector<std::optional<Obstacle>> found_;
  std::vector<std::uint8_t> in_;
  std::vector<std::uint32_t> by_variable_;   // the statement of a selector
  std::vector<Lit> roots_, reached_, kept_;  // kept_: in the order of their weight
  std::vector<std::size_t> preferred_;
};

Obstacles::Obstacles(std::shared_ptr<const Encoding> encoding, Cdcl engine)
    : encoding_(std::move(encoding)), engine_(std::move(engine)) {}

std::vector<std::optional<Obstacle>> Obstacles::explain(const std::vector<PackageId>& left_behind,
                                                        const std::vector<PackageId>& chosen) {
  return Search(*encoding_, engine_, left_behind, chosen).run();
}

}  // namespace hambrel::solve
