#include "solve/encoding.h"

#include <algorithm>
#include <tuple>

#include "base/assert.h"
#include "base/parallel.h"
#include "solve/outlook.h"

namespace hambrel::solve {

namespace {
constexpr std::size_t kFew = 6;
}  // namespace

Encoding::Encoding(const Universe& universe, const Request& request, Scope scope, Selectors selectors)
    : universe_(universe), request_(request), scope_(scope), selectors_(selectors) {
  make();
}

Encoding::Encoding(const Universe& universe, const Request& request, const std::vector<NameId>& about)
    : universe_(universe), request_(request), scope_(Scope::Full), selectors_(Selectors::All) {
  std::vector<std::uint8_t> named(universe.name_count(), 0);
  for (const NameId name : about) named[static_cast<std::size_t>(name)] = 1;
  about_.emplace();
  const auto& installed = universe.installed();
  for (std::size_t i = 0; i < installed.size(); ++i)
    if (named[static_cast<std::size_t>(universe.installed_name(i))] != 0 || request_.guards(universe, installed[i]))
      about_->push_back(installed[i]);
  make();
}

Encoding::Encoding(const Encoding& whole, const Request& request)
    : universe_(whole.universe_),
      request_(request),
      scope_(Scope::Full),
      selectors_(Selectors::None),
      engine_(whole.engine_),
      variables_(whole.variables_),
      name_fixed_(whole.name_fixed_),
      relations_reached_(whole.relations_reached_),
      cone_(whole.cone_) {
  HAMBREL_ASSERT(whole.scope_ == Scope::Full && whole.selectors_ != Selectors::None, "its roots can be released");
  if (whole.may_choose_the_same(request)) outlook_ = whole.outlook_;
  allowed_.assign(universe_.size(), 0);
  name_asked_.assign(universe_.name_count(), 0);
  mark_request();
  constexpr std::uint8_t kReleased = 1, kRemoved = 2;
  std::vector<std::uint8_t> given_up(universe_.name_count(), 0), is_open(universe_.name_count(), 0);
  const auto mark = [&](const Names& names, std::uint8_t how) {
    for (const std::string& name : names)
      if (const auto id = universe_.find_name(name)) given_up[static_cast<std::size_t>(*id)] |= how;
  };
  mark(request.release, kReleased);
  mark(request.remove, kRemoved);
  for (const Statement& one : whole.statements_) {
    std::uint8_t by = 0;
    if (one.kind == Cause::Kind::Held) by = kReleased;
    if (one.kind == Cause::Kind::Wanted) by = kRemoved;
    if (by == 0 || (given_up[one.subject] & by) == 0)
      engine_.add({one.selector});
    else
      is_open[one.subject] = 1;
  }
  // of these names, what still stands: they may be meant in one architecture only
  for (const PackageId id : universe_.installed())
    if (is_open[static_cast<std::size_t>(universe_.name_id(id))] != 0) encode_wanted(id);
  if (request.channels != whole.request_.channels)
    for (const PackageId id : cone_)
      if (!may_choose(id)) engine_.add({~lit(id)});
  encode_request();
}

void Encoding::make() {
  engine_.new_variable(true);
  engine_.add({truth()});
  allowed_.assign(universe_.size(), 0);
  variables_.assign(universe_.size(), kNone);
  name_asked_.assign(universe_.name_count(), 0);
  name_fixed_.assign(universe_.name_count(), 0);
  relations_reached_.assign(universe_.relation_count(), 0);
  mark_request();
  if (frozen()) fix_installed();
  collect();
  make_variables();
  Aside<std::shared_ptr<const Outlook>> outlook;
  if (is_large()) outlook = aside([&] { return std::make_shared<const Outlook>(*this); });
  encode_request();
  for (const PackageId id : about()) encode_wanted(id);
  encode_fixed();
  for (const PackageId id : cone_) encode_package(id);
  encode_slots();
  if (outlook.valid()) outlook_ = outlook.get();
}

void Encoding::mark_request() {
  for (const Target& target : request_.install)
    for (const PackageId id : target.candidates) {
      const bool is_there = universe_.has_several_files(universe_.name_id(id)) &&
                            std::any_of(target.candidates.begin(), target.candidates.end(), [&](PackageId other) {
                              return universe_.is_installed(other) && is_same_version(id, other);
                            });
      if (!is_there || universe_.is_installed(id)) allowed_[index_of(id)] = kLooked | kMayChoose | kTarget;
      name_asked_[static_cast<std::size_t>(universe_.name_id(id))] = 1;
    }
  for (const Names* names : {&request_.remove, &request_.upgrade})
    for (const std::string& name : *names)
      if (const auto id = universe_.find_name(name)) name_asked_[static_cast<std::size_t>(*id)] = 1;
}

bool Encoding::is_same_version(PackageId a, PackageId b) const {
  return a != b && universe_.name_id(a) == universe_.name_id(b) && universe_.version(a) == universe_.version(b) &&
         universe_.architecture(a) == universe_.architecture(b);
}

/// Is the same version installed from another file? It is not exchanged for its own sake.
bool Encoding::is_installed_otherwise(PackageId id) const {
  if (!universe_.has_several_files(universe_.name_id(id))) return false;
  const Ids versions = universe_.slot(id);
  return std::any_of(versions.begin(), versions.end(),
                     [&](PackageId other) { return universe_.is_installed(other) && is_same_version(id, other); });
}

std::uint8_t Encoding::look(PackageId id) const {
  std::uint8_t found = kLooked;
  if (universe_.is_installed(id)) {
    found |= kMayChoose;
  } else if (is_installed_otherwise(id)) {
    // it is not exchanged for its own sake
  } else if (universe_.offered(id)) {
    found |= kMayChoose;
  } else if (!request_.channels.empty()) {
    for (std::size_t i = 0, count = universe_.offer_count(id); i < count; ++i) {
      const auto offer = universe_.offer(id, i);
      if (offer.enabled && universe_.visible(id) && request_.channels.contains(offer.channel)) found |= kMayChoose;
    }
  }
  std::atomic_ref(allowed_[index_of(id)]).store(found, std::memory_order_relaxed);
  return found;
}

bool Encoding::slot_asked(PackageId id) const {
  if (name_asked_[static_cast<std::size_t>(universe_.name_id(id))] == 0) return false;
  if (universe_.one_class()) return true;
  if (request_.means(request_.remove, universe_, id) || request_.means(request_.upgrade, universe_, id)) return true;
  for (const Target& target : request_.install)
    for (const PackageId one : target.candidates)
      if (universe_.same_slot(one, id)) return true;
  return false;
}

void Encoding::fix_installed() {
  const auto& installed = universe_.installed();
  bool all = true;
  for (std::size_t i = 0; i < installed.size(); ++i) {
    const PackageId id = installed[i];
    const auto name = static_cast<std::size_t>(universe_.installed_name(i));
    if (name_asked_[name] != 0 && slot_asked(id)) {
      all = false;
      continue;
    }
    variables_[index_of(id)] = 0;
    // what is there already breaks a rule: nothing to build upon
    if (name_fixed_[name] != 0 && crowded(id)) engine_.add({});
    name_fixed_[name] = 1;
    fixed_.push_back(id);
  }
  fixed_is_sound_ = all && universe_.installed_is_sound();
}

/// Do more versions stand in the slot of an installed package than may?
bool Encoding::crowded(PackageId id) const {
  auto there = universe_.installed_in_slot(id);
  const auto count = std::ranges::distance(there);
  return std::ranges::any_of(there, [&](PackageId one) { return universe_.parallel(one) < count; });
}

bool Encoding::slot_fixed(PackageId id) const {
  if (name_fixed_[static_cast<std::size_t>(universe_.name_id(id))] == 0) return false;
  for (const PackageId other : universe_.installed_in_slot(id))
    if (variables_[index_of(other)] == 0 && (universe_.parallel(id) == 1 || universe_.parallel(other) == 1))
      return true;
  return false;
}

void Encoding::make_variables() {
  // The fixed order of decisions: first what should be there, then what should not, the least preferred first, so that
  // what is left over to meet a requirement is the preferred one.
  std::vector<Var> order;
  const auto upgrades_to = [&](PackageId id) {
    if (!request_.upgrade_all && request_.upgrade.empty()) return false;
    if (universe_.is_installed(id) || !universe_.offered(id)) return false;
    auto installed = universe_.installed_in_slot(id);
    if (installed.empty() || !request_.upgrades(universe_, installed.front()) || stays_as_it_is(installed.front()))
      return false;
    return universe_.newer_offer(installed.front()) == id;
  };
  for (auto id = cone_.rbegin(); id != cone_.rend(); ++id) {
    HAMBREL_ASSERT(variables_[index_of(*id)] == kReached, "a package is reached once");
    const bool up = upgrades_to(*id);
    variables_[index_of(*id)] = engine_.new_variable(up || universe_.is_installed(*id));
    if (up) order.push_back(variables_[index_of(*id)]);
  }
  for (const PackageId id : cone_)
    if (universe_.is_installed(id)) order.push_back(variables_[index_of(id)]);
  engine_.set_order(order);
}

std::vector<PackageId> Encoding::choices(PackageId id) const {
  std::vector<PackageId> ids;
  for (const PackageId one : universe_.slot(id))
    if (may_choose(one)) ids.push_back(one);
  return ids;
}

bool Encoding::is_better_file(PackageId other, PackageId id) const {
  if (!is_same_version(other, id) || !may_choose(other)) return false;
  const auto better = universe_.best_offer(other), known = universe_.best_offer(id);
  return better && known && std::tie(better->rank, better->repository) < std::tie(known->rank, known->repository);
}

std::uint32_t Encoding::lag(PackageId id) const {
  std::uint32_t count = 0;
  std::string_view last;
  const Ids versions = universe_.slot(id);
  if (versions.size() == 1) return 0;
  for (const PackageId other : versions) {
    if (other == id || !may_choose(other)) continue;
    const int order = order_versions(universe_.version(other), universe_.version(id));
    if (order < 0) break;
    const bool behind = order == 0 ? is_better_file(other, id) : universe_.version(other) != last;
    if (behind) ++count;
    last = universe_.version(other);
  }
  return count;
}

std::vector<PackageId> Encoding::replacers(PackageId installed) const {
  std::vector<PackageId> ids = universe_.replacers_of(installed);
  std::erase_if(ids, [&](PackageId id) { return !may_choose(id); });
  return ids;
}

bool Encoding::stays_as_it_is(PackageId installed) const {
  return request_.means(request_.except, universe_, installed) ||
         (universe_.held(installed) && !request_.means(request_.release, universe_, installed));
}

bool Encoding::may_be_dropped(PackageId installed) const {
  if (!request_.drop_strays || !universe_.wanted(installed)) return false;
  return !universe_.is_slot_offered(installed);
}

Lit Encoding::one_of(std::vector<Lit> lits) { return one_of_unless(truth(), std::move(lits)); }

Lit Encoding::one_of_unless(Lit unless, std::vector<Lit> lits) {
  std::erase_if(lits, [&](Lit lit) { return engine_.never(lit); });
  if (std::any_of(lits.begin(), lits.end(), [&](Lit lit) { return engine_.always(lit); })) return truth();
  if (!engine_.always(unless)) lits.push_back(~unless);
  if (lits.empty()) return ~truth();
  if (lits.size() == 1) return lits[0];
  const Lit one = positive(engine_.new_variable(true));
  engine_.set_model(one.var(), std::any_of(lits.begin(), lits.end(), [&](Lit lit) { return engine_.model(lit); }));
  lits.push_back(~one);
  engine_.add(lits);
  return one;
}

// ---- statements

/// Is this what the administrator decided, or what nobody offers?
bool Encoding::is_root(Cause::Kind kind) const {
  switch (kind) {
    case Cause::Kind::Held:
    case Cause::Kind::LeftAlone:
    case Cause::Kind::Wanted: return true;
    case Cause::Kind::Requires: return clause_.size() == 1;
    default: return false;
  }
}

/// Adds clause_, which belongs to a statement. Statements of the same kind, subject and relation are one.
void Encoding::state(Cause::Kind kind, std::uint32_t subject, std::uint32_t relation, PackageId package) {
  if (selectors_ == Selectors::None || (selectors_ == Selectors::Roots && !is_root(kind))) {
    engine_.add(clause_);
    return;
  }
  auto& known = statement_of_[static_cast<std::size_t>(kind)];
  const std::uint64_t key = (static_cast<std::uint64_t>(subject) << 32U) | relation;
  const auto [place, is_new] = known.emplace(key, static_cast<std::uint32_t>(statements_.size()));
  if (is_new) statements_.push_back({kind, subject, relation, package, positive(engine_.new_variable(true))});
  if (selectors_ == Selectors::All) {
    kept_.push_back(
        {place->second, static_cast<std::uint32_t>(kept_lits_.size()), static_cast<std::uint32_t>(clause_.size())});
    kept_lits_.insert(kept_lits_.end(), clause_.begin(), clause_.end());
  }
  clause_.push_back(~statements_[place->second].selector);
  engine_.add(clause_);
}

void Encoding::encode_request() {
  for (std::uint32_t i = 0; i < request_.install.size(); ++i) {
    clause_.clear();
    for (const PackageId id : request_.install[i].candidates) clause_.push_back(lit(id));
    state(Cause::Kind::Asked, i, kNone, {});
  }
  for (const PackageId id : cone_)
    if (is_to_go(id)) {
      clause_ = {~lit(id)};
      state(Cause::Kind::AskedToRemove, static_cast<std::uint32_t>(universe_.name_id(id)), kNone, id);
    }
}

/// What holds of an installed package as such.
void Encoding::encode_wanted(PackageId id) {
  if (engine_.always(lit(id))) return;
  const auto name = static_cast<std::uint32_t>(universe_.name_id(id));
  if (stays_as_it_is(id)) {
    clause_ = {lit(id)};
    state(request_.means(request_.except, universe_, id) ? Cause::Kind::LeftAlone : Cause::Kind::Held, name, kNone, id);
  }
  if (request_.guards(universe_, id)) {
    clause_.clear();
    for (const PackageId other : universe_.slot(id))
      if (order_versions(universe_.version(other), universe_.version(id)) >= 0) clause_.push_back(lit(other));
    state(Cause::Kind::Essential, name, kNone, id);
  }
  if (!universe_.wanted(id) || is_to_go(id) || may_be_dropped(id)) return;
  clause_.clear();
  for (const PackageId other : universe_.slot(id)) clause_.push_back(lit(other));
  for (const PackageId other : replacers(id)) clause_.push_back(lit(other));
  state(Cause::Kind::Wanted, name, kNone, id);
}

/// What given packages ask of those that may come.
void Encoding::encode_fixed() {
  for (const PackageId id : cone_)
    for (const NameId name : frozen() ? universe_.answers_to(id) : std::vector<NameId>())
      universe_.each_against(name, [&](PackageId one, RelationId relation, bool replaces) {
        if (lit(one) == truth()) forbid(replaces ? Cause::Kind::Replaces : Cause::Kind::Conflicts, one, relation);
      });
  if (fixed_is_sound_) return;
  for (const PackageId id : fixed_) {
    for (const RelationId relation : universe_.relations(id, RelationList::Requires)) {
      clause_.clear();
      bool met = false;
      universe_.each_match(relation, [&](PackageId other) {
        if (!universe_.may_serve(other, id)) return;
        met = met || variables_[index_of(other)] == 0;
        clause_.push_back(lit(other));
      });
      if (!met)
        state(Cause::Kind::Requires, static_cast<std::uint32_t>(universe_.name_id(id)),
              static_cast<std::uint32_t>(relation), id);
    }
    for (const RelationId relation : universe_.relations(id, RelationList::Conflicts))
      forbid(Cause::Kind::Conflicts, id, relation);
    for (const RelationId relation : universe_.relations(id, RelationList::Replaces))
      forbid(Cause::Kind::Replaces, id, relation);
  }
}

/// `id` and what answers to the relation exclude each other.
void Encoding::forbid(Cause::Kind kind, PackageId id, RelationId relation) {
  const NameId own = universe_.name_id(id);
  const Lit self = lit(id);
  universe_.each_match(relation, [&](PackageId other) {
    const Lit against = lit(other);
    if (universe_.name_id(other) == own || against == ~truth()) return;
    clause_ = {~self, ~against};
    state(kind, static_cast<std::uint32_t>(own), static_cast<std::uint32_t>(relation), id);
  });
}

void Encoding::encode_package(PackageId id) {
  const auto name = static_cast<std::uint32_t>(universe_.name_id(id));
  for (const RelationId relation : universe_.relations(id, RelationList::Requires)) {
    clause_ = {~lit(id)};
    bool met = false;
    universe_.each_match(relation, [&](PackageId other) {
      if (!universe_.may_serve(other, id)) return;
      const Lit provider = lit(other);
      met = met || provider == truth();
      if (provider != ~truth()) clause_.push_back(provider);
    });
    if (!met) state(Cause::Kind::Requires, name, static_cast<std::uint32_t>(relation), id);
  }
  for (const RelationId relation : universe_.relations(id, RelationList::Conflicts))
    forbid(Cause::Kind::Conflicts, id, relation);
  for (const RelationId relation : universe_.relations(id, RelationList::Replaces))
    forbid(Cause::Kind::Replaces, id, relation);
}

void Encoding::encode_slots() {
  std::vector<PackageId> versions;
  for (std::size_t i = 0; i < cone_.size();) {
    std::size_t end = i;
    while (end < cone_.size() && universe_.name_id(cone_[end]) == universe_.name_id(cone_[i])) ++end;
    if (end - i > 1 || name_fixed_[static_cast<std::size_t>(universe_.name_id(cone_[i]))] != 0) {
      std::vector<std::uint32_t> classes;
      for (std::size_t k = i; k < end; ++k) {
        const std::uint32_t one = universe_.one_class() ? 0 : universe_.architecture_class(cone_[k]);
        if (std::find(classes.begin(), classes.end(), one) == classes.end()) classes.push_back(one);
      }
      for (const std::uint32_t one : classes) {
        versions.clear();
        for (std::size_t k = i; k < end; ++k)
          if (universe_.one_class() || universe_.architecture_class(cone_[k]) == one) versions.push_back(cone_[k]);
        encode_slot(versions);
      }
    }
    i = end;
  }
}

/// At most one of the versions, or as many as `parallel` says: in pairs for a few, by the sequential counter of Sinz
/// (2005) for many. A version that does not say parallel excludes all others.
void Encoding::encode_slot(const std::vector<PackageId>& versions) {
  HAMBREL_ASSERT(!versions.empty(), "a slot is of something");
  const auto add = [&](std::initializer_list<Lit> clause) {
    engine_.add(clause);
    if (selectors_ != Selectors::All) return;
    kept_.push_back(
        {kAlways, static_cast<std::uint32_t>(kept_lits_.size()), static_cast<std::uint32_t>(clause.size())});
    kept_lits_.insert(kept_lits_.end(), clause.begin(), clause.end());
  };
  std::uint32_t most = 1;
  for (const PackageId id : versions) most = std::max(most, universe_.parallel(id));
  if (most > 1) {
    std::uint32_t there = 0;  // given ones take their share
    for (const PackageId id : universe_.installed_in_slot(versions.front()))
      there += variables_[index_of(id)] == 0 ? 1 : 0;
    for (std::size_t i = 0; i < versions.size(); ++i)
      for (std::size_t k = i + 1; k < versions.size(); ++k)
        if (universe_.parallel(versions[i]) == 1 || universe_.parallel(versions[k]) == 1)
          add({~lit(versions[i]), ~lit(versions[k])});
    // count[j]: at least j + 1 of those so far
    const std::uint32_t room = most > there ? most - there : 0;
    std::vector<Lit> count;
    for (const PackageId id : versions) {
      std::vector<Lit> next;
      for (std::uint32_t j = 0; j < std::min<std::size_t>(count.size() + 1, room); ++j) {
        const Lit at_least = positive(engine_.new_variable(false));
        if (j == 0) add({~lit(id), at_least});
        if (j > 0) add({~lit(id), ~count[j - 1], at_least});
        if (j < count.size()) add({~count[j], at_least});
        next.push_back(at_least);
      }
      if (room == 0) add({~lit(id)});
      if (room > 0 && count.size() >= room) add({~lit(id), ~count[room - 1]});
      count = std::move(next);
    }
    return;
  }
  if (versions.size() <= kFew) {
    for (std::size_t i = 0; i < versions.size(); ++i)
      for (std::size_t k = i + 1; k < versions.size(); ++k) add({~lit(versions[i]), ~lit(versions[k])});
    return;
  }
  std::optional<Lit> before;  // "one of those so far"
  for (const PackageId id : versions) {
    const Lit so_far = positive(engine_.new_variable(false));
    add({~lit(id), so_far});
    if (before) {
      add({~*before, so_far});
      add({~*before, ~lit(id)});
    }
    before = so_far;
  }
}

std::vector<Lit> Encoding::selectors() const {
  std::vector<Lit> all;
  for (const Statement& one : statements_) all.push_back(one.selector);
  return all;
}

std::vector<PackageId> Encoding::chosen() const {
  std::vector<PackageId> result = fixed_;
  for (const PackageId id : cone_)
    if (engine_.model(lit(id))) result.push_back(id);
  const auto middle = result.begin() + static_cast<std::ptrdiff_t>(fixed_.size());
  std::inplace_merge(result.begin(), middle, result.end(),
                     [&](PackageId a, PackageId b) { return universe_.place(a) < universe_.place(b); });
  return result;
}

}  // namespace hambrel::solve
