// The hard constraints of a request as clauses over "this package version is installed in the end".
//
// Only the cone is encoded: what is installed or asked for, and whatever can be reached from there through relations.
// Frozen: what is installed and not named by the request is a constant, so that the cone of an ordinary install is the
// handful of packages that come with it. Full: everything installed may change.
// Statements may get selectors, so that a refutation tells which of them it needs.
#pragma once

#include <atomic>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "solve/cdcl.h"
#include "solve/request.h"

namespace hambrel::solve {

class Outlook;

class Encoding {
 public:
  enum class Scope { Frozen, Full };
  /// Which statements get a selector: none; what an upgrade can be held back by (obstacles.h); or every one.
  enum class Selectors { None, Roots, All };
  Encoding(const Universe& universe, const Request& request, Scope scope, Selectors selectors = Selectors::None);
  /// In full, with a selector for every statement, of what is asked for, of protected packages and of these names
  /// alone, where that much is known to have no model: whoever is not reached from there has no part in it.
  Encoding(const Universe& universe, const Request& request, const std::vector<NameId>& about);
  /// A full encoding without selectors, made from one that has them for its roots, none of which is settled; for a
  /// request in which more names go or are released, more is to be installed of what that one has variables for, and
  /// less may come from channels that are not followed.
  Encoding(const Encoding& whole, const Request& request);

  const Universe& universe() const { return universe_; }
  const Request& request() const { return request_; }
  bool frozen() const { return scope_ == Scope::Frozen; }
  /// Is it so large that another thread is worth its while?
  bool is_large() const;
  Cdcl& engine() { return engine_; }
  std::size_t variables() const { return engine_.variables(); }
  static Lit truth() { return positive(0); }
  /// The literal of a package: a constant for what is fixed or out of the question.
  Lit lit(PackageId id) const {
    const Var var = variables_[index_of(id)];
    return var == kNone ? ~truth() : positive(var);
  }
  /// Packages that have a variable, in the order of lists.
  const std::vector<PackageId>& cone() const { return cone_; }
  /// Installed packages that this encoding takes as given.
  const std::vector<PackageId>& fixed() const { return fixed_; }
  /// Is the package installed already, offered by what is followed, or named by the request?
  bool may_choose(PackageId id) const { return (allowed(id) & kMayChoose) != 0; }
  bool is_target(PackageId id) const { return (allowed(id) & kTarget) != 0; }
  /// Does the request name it for going? Quick for what it does not.
  bool is_to_go(PackageId id) const {
    return name_asked_[static_cast<std::size_t>(universe_.name_id(id))] != 0 &&
           request_.means(request_.remove, universe_, id);
  }
  /// Is the slot of the package one that the request names?
  bool slot_asked(PackageId id) const;
  /// Versions in the slot of a package that may be chosen, newest first.
  std::vector<PackageId> choices(PackageId id) const;
  /// Is the one the same version as the other, from another file, of a repository with a better rank?
  bool is_better_file(PackageId other, PackageId id) const;
  /// What the levels ask of all packages, where it was worked out beforehand: in full, of a large root. Or null.
  const Outlook* outlook() const { return outlook_.get(); }
  /// How many different newer versions of its slot may be chosen, and better files of the same one.
  std::uint32_t lag(PackageId id) const;
  /// What could take over for an installed package because it replaces it.
  std::vector<PackageId> replacers(PackageId installed) const;
  bool stays_as_it_is(PackageId installed) const;  // left alone by the request, or held
  bool may_be_dropped(PackageId installed) const;  // a wanted stray under drop_strays
  /// A literal that implies that one of these is true.
  Lit one_of(std::vector<Lit> lits);
  /// A literal that implies: not `unless`, or one of these.
  Lit one_of_unless(Lit unless, std::vector<Lit> lits);
  std::vector<PackageId> chosen() const;  // by the last model, in the order of lists
  bool is_chosen(PackageId id) const { return engine_.model(lit(id)); }

  // with selectors
  struct Statement {
    Cause::Kind kind;
    std::uint32_t subject;   // the place in Request::install, or a NameId
    std::uint32_t relation;  // a RelationId, or kNone
    PackageId package;       // one it is about
    Lit selector;
  };
  const std::vector<Statement>& statements() const { return statements_; }
  /// The selectors of all statements, in their order.
  std::vector<Lit> selectors() const;
  /// The causes for some statements, in their order.
  std::vector<Cause> causes(const std::vector<std::size_t>& statements) const;
  /// A problem of its own that holds the clauses of some statements alone (and "one version of a name" for what they
  /// speak of), with variables for nothing else.
  struct Extract {
    Cdcl engine;
    std::vector<Lit> selectors;  // in the order of the statements
  };
  Extract extract(const std::vector<std::size_t>& statements) const;

 private:
  static constexpr Var kNone = UINT32_MAX, kReached = UINT32_MAX - 1;  // reached: to be numbered
  static constexpr std::uint32_t kAlways = UINT32_MAX;                 // a clause that belongs to no statement
  enum Allowed : std::uint8_t { kLooked = 1, kMayChoose = 2, kTarget = 4 };

  std::uint8_t allowed(PackageId id) const {
    const std::uint8_t known = std::atomic_ref(allowed_[index_of(id)]).load(std::memory_order_relaxed);
    return (known & kLooked) != 0 ? known : look(id);
  }
  std::uint8_t look(PackageId id) const;
  bool is_same_version(PackageId a, PackageId b) const;  // of two files
  bool is_installed_otherwise(PackageId id) const;
  void make();
  bool may_choose_the_same(const Request& request) const;
  void mark_request();
  /// What is installed and this is about.
  const std::vector<PackageId>& about() const { return about_ ? *about_ : universe_.installed(); }
  void fix_installed();
  bool crowded(PackageId id) const;
  bool slot_fixed(PackageId id) const;
  struct Reached {
    std::vector<PackageId> all, open;  // open: those whose relations were not looked at yet
  };
  void collect();
  void sort_cone();
  void reach(PackageId id, Reached& reached);
  void reach_from_installed(PackageId id, Reached& reached);
  void reach_what_follows(Reached& reached);
  bool is_met(RelationId relation, PackageId asking) const;
  void reach_all(RelationId relation, PackageId asking, Reached& reached);
  void make_variables();
  void encode_request();
  void encode_wanted(PackageId id);
  void encode_fixed();
  void encode_package(PackageId id);
  void encode_slots();
  void encode_slot(const std::vector<PackageId>& versions);
  bool is_root(Cause::Kind kind) const;
  void state(Cause::Kind kind, std::uint32_t subject, std::uint32_t relation, PackageId package);
  void forbid(Cause::Kind kind, PackageId id, RelationId relation);

  const Universe& universe_;
  const Request request_;  // its own: whoever asked may be gone when remedies are looked for
  Scope scope_;
  Selectors selectors_;
  Cdcl engine_;
  mutable std::vector<std::uint8_t> allowed_;
  std::vector<Var> variables_;
  std::vector<std::uint8_t> name_fixed_, name_asked_;  // by name
  std::optional<std::vector<PackageId>> about_;        // only these of what is installed
  std::vector<std::uint8_t> relations_reached_;        // by relation
  std::vector<PackageId> cone_, fixed_;
  std::shared_ptr<const Outlook> outlook_;
  std::vector<Lit> clause_;
  bool fixed_is_sound_ = false;  // what is given meets its relations by itself

  std::vector<Statement> statements_;
  std::unordered_map<std::uint64_t, std::uint32_t> statement_of_[static_cast<std::size_t>(Cause::Kind::Replaces) + 1];
  struct Kept {
    std::uint32_t statement, start, size;
  };
  std::vector<Kept> kept_;  // clauses by statement, where every one has a selector
  std::vector<Lit> kept_lits_;
};

}  // namespace hambrel::solve
