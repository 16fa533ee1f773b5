// What is known before a question is put, and what became of it.
//
// A request (one struct a use case) becomes a Proposal: the plan, what is worth saying about it, and the questions that
// are open, each as data. It never changes: with the answers decided() makes another one, perform() carries that out
// and says what was done as an Outcome. Text and JSON are made from these values, and from nothing else. Nothing here
// prints or asks.
#pragma once

#include <algorithm>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "operations/acting.h"
#include "operations/config_difference.h"
#include "operations/configuration_question.h"
#include "operations/questions.h"
#include "operations/root.h"
#include "operations/vouching.h"
#include "plan/plan.h"

namespace hambrel::operations {

/// What is to come of a plan.
enum class End {
  Switch,     // it is done
  Prepare,    // it is staged, and waits to be activated
  FetchOnly,  // its package files are brought into the cache
};

/// How it is carried out.
struct Terms {
  std::string reason{};           // for the ledger
  bool accepts_unsigned = false;  // see Proposal::doubts()
  bool follows = false;           // see Proposal::may_follow()
  std::function<bool()> stop_asked = [] { return false; };
};

/// What the cache dropped afterwards, by the limits of the settings.
struct CacheTrim {
  std::size_t files = 0;
  ByteCount bytes = 0;
};

/// What was done with a service.
struct ServiceDone {
  std::string name, action;
  bool good = true;
  std::string said{};  // of what went wrong, in a few words
};

struct [[nodiscard]] Outcome {
  End end = End::Switch;
  std::optional<state::TxnId> transaction{};  // of Switch
  ByteCount staged = 0;                       // bytes, of Prepare
  ByteCount fetched = 0;                      // bytes, of FetchOnly
  CacheTrim cache{};
  std::vector<ServiceDone> services{};  // in their order
  std::set<std::string> ran{};          // services that were running before
  // Of the running system: services that run on files that were replaced, and packages that ask for a restart.
  std::vector<std::string> due{}, restart_system{}, restart_session{};
  bool some_service_failed() const {
    return std::any_of(services.begin(), services.end(), [](const ServiceDone& one) { return !one.good; });
  }
  bool stopped_too_late = false;  // it was asked to stop in the middle of the switch, which was finished first
};

struct ExactRequest;

class Proposal {
 public:
  struct Parts {
    plan::Plan plan;
    std::vector<std::string> remarks{};          // sentences about it that belong to no step
    std::vector<ConfigQuestion> questions{};     // configuration that is still to be decided on
    std::vector<PackageQuestion> of_packages{};  // what packages still ask
    End end = End::Switch;
    std::vector<Doubt> doubts{};  // package files that nobody vouches for
  };
  explicit Proposal(Parts parts) : parts_(std::move(parts)) {}
  virtual ~Proposal() = default;
  Proposal(const Proposal&) = delete;
  Proposal& operator=(const Proposal&) = delete;

  const plan::Plan& plan() const { return parts_.plan; }
  const std::vector<std::string>& remarks() const { return parts_.remarks; }
  const std::vector<ConfigQuestion>& questions() const { return parts_.questions; }
  const std::vector<PackageQuestion>& questions_of_packages() const { return parts_.of_packages; }
  End end() const { return parts_.end; }
  /// Where there are some, the terms have to accept them.
  const std::vector<Doubt>& doubts() const { return parts_.doubts; }
  /// Nothing of the system would change.
  virtual bool does_nothing() const { return plan().empty(); }
  /// What it is with an answer to each of its questions: another one, without questions. This one is used up.
  [[nodiscard]] virtual std::unique_ptr<Proposal> decided(Decisions decisions, GivenAnswers answers = {});
  /// All that is to be known to carry it out later, beside its plan (saved_plan.h); nothing: its command is run again.
  virtual std::shared_ptr<const ExactRequest> exactly() const;
  /// Channels that the terms can have packages follow, too.
  virtual std::vector<state::FollowChange> may_follow() const { return {}; }
  /// What it changes in configuration files.
  virtual std::vector<ConfigDifference> config_differences() const { return {}; }
  /// Once, by the root that it was made from, and with no question open. On failure everything is as before, and the
  /// ledger says so.
  Outcome perform(ChangingRoot& root, const Terms& terms);

 protected:
  virtual Outcome carry_out(ChangingRoot& root, const Terms& terms) = 0;

 private:
  const Parts parts_;
};

/// For the ledger.
txn::Account account_of(Root& root, const plan::Plan& plan, const std::string& reason);

/// The same plan together with what of the attic is given up with it.
[[nodiscard]] txn::Planned with_retention(Root& root, txn::Planned planned);

/// What is prepared already can't be activated after another change. Throws Error{Refused} where this one is to be
/// prepared itself.
std::optional<std::string> check_prepared(Root& root, End end);

/// Switches or prepares. `planned` has its sources; what was switched to is spent. `fetches`: the cache is brought
/// within its limits afterwards.
Outcome execute(ChangingRoot& root, txn::Planned& planned, const txn::Account& account, End end, bool fetches,
                const std::function<bool()>& stop_asked);

/// After a transaction that fetched something. What can't be dropped is told.
CacheTrim trim_cache(Root& root);

/// What is planned by moves and changes of packages, without a search: undo, rollback, shelve, settle, repair, purge.
struct PlannedTerms {
  End end = End::Switch;
  std::vector<std::string> release{};  // held packages that may change
  bool name_holds = false;             // others must not: nobody is asked
  solve::Names allow_essential{};      // see protection.h
  ActingTerms acting{};
};
/// Throws Error{Refused} for a held package that would change and is not named, where holds have to be.
/// `files`: what its sources are read from. `remark`: said if there is nothing to be done.
[[nodiscard]] std::unique_ptr<Proposal> propose(Root& root, txn::Planned planned, const PlannedTerms& terms,
                                                std::shared_ptr<VersionFiles> files = {}, const char* remark = nullptr);

}  // namespace hambrel::operations
