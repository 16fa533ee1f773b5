// The whole of what a command is about to do, as a value: shown, recorded in the ledger (plan_record.h).
//
// Invariants: every step has a reason; steps stand in an order in which each package comes after what it requires
// (cycles aside), removals after everything else, dependants before what they depend on.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/digest.h"
#include "solve/request.h"

namespace hambrel::plan {

enum class Action {  // stored in the ledger: never renumber
  Install,
  Upgrade,
  Downgrade,
  Remove,
  Repair,
  Shelve,
  Unshelve,
  Want,
  Unwant,
  Hold,
  Release
};  // the last four: no file
std::string_view text_of(Action action);

enum class WhyKind {  // stored in the ledger: never renumber
  Asked,              // the request names it
  Required,           // `by` requires it
  Recommended,        // `by` recommends it
  Newer,              // an upgrade was asked for
  Replacing,          // takes over for `by`
  ReplacedBy,         // `by` takes over
  LosesProvider,      // what it requires goes
  InConflict,         // with `by`
  MakesRoom,          // only so many versions may stand side by side, and `by` is a newer one
  Stray,              // no repository offers it any more, and it is in the way of an upgrade
  Unneeded,           // nothing wanted needs it any more
  Undone,             // an earlier transaction is taken back
  RolledBack,         // as it was after an earlier transaction
  Damaged,            // `by` of its files are not as they should be
  OldInConflict,      // `by` conflicts with the version before
};

struct Why {
  WhyKind kind = WhyKind::Asked;
  std::string by;        // a package name, or for Undone and RolledBack the number of the transaction
  std::string relation;  // as it stands in the manifest of `by`
  std::string text() const;
};

/// Who vouches for the content of what comes: keys of a repository, or of whoever made a package file.
struct Voucher {
  std::uint64_t root = 0;           // by the root document of this number of its repository; 0: by no repository
  std::vector<std::string> keys{};  // ids of those that signed
  bool is_nobody() const { return root == 0 && keys.empty(); }
  bool operator==(const Voucher&) const = default;
};

struct Step {
  Action action = Action::Install;
  std::string name, arch;
  std::string before, after;  // versions; empty for none
  Why why;
  std::string origin;                            // where the new version comes from, where the removed one came from
  Reason reason = Reason::Wanted;                // after the step
  ByteCount download = 0;                        // bytes to fetch; 0 when it is at hand
  ByteCount whole = 0;                           // of the package file, where only what has changed of it is fetched
  std::int64_t size_change = 0;                  // of the installed files, bytes
  bool held = false;                             // and stays in the new version from then on
  std::optional<Voucher> voucher{};              // nothing where nothing comes from outside, or nobody has looked
  std::optional<PackageId> before_id, after_id;  // in the universe that the plan was made from

  bool brings_files() const {
    return action == Action::Install || action == Action::Upgrade || action == Action::Downgrade ||
           action == Action::Unshelve;
  }
  /// Changes only what the state says of a package, none of its files.
  bool only_state() const { return action >= Action::Want; }
};

/// Something about files that the administrator should know before agreeing.
struct Notice {
  enum class Kind {  // stored in the ledger: never renumber
    ConfigKept,
    ConfigDisplaced,
    ConfigStaysAway,
    Leftover,
    Unowned,
    DirectoryStays,
    Changed,
    Privileged,
    Lost,
    GivenUp,
    ConfigUnmerged,
    ConfigUnknown,
    OwnSettings,
    OpenToAll,
    DirectoryLower,
    Unsigned,
    UnknownKey,
    Signed,
    AccountStays
  };
  Kind kind = Kind::ConfigKept;
  // Of AccountStays: something that belongs to it, and its name; of GivenUp: the transactions, and the last of them; of
  // Unsigned: a repository or a package file, and packages; of UnknownKey and Signed: a package file, and the id or the
  // name of a key.
  std::string path, package;
  bool is_about_path() const { return kind != Kind::GivenUp && (kind < Kind::Unsigned || kind == Kind::AccountStays); }
  std::string text() const;
};

/// What becomes of a configuration file that the administrator edited and a package brings anew, or leaves behind.
enum class ConfigAction {  // stored in the ledger: never renumber
  Keep,                    // the administrator's stays, and the package's new one is not taken
  Take,                    // the package's replaces it
  Merge,                   // both changes together
  Edit,                    // as the administrator wrote it when asked
  Wait,                    // the administrator's stays, the new one waits to be settled
  Carry,                   // it follows the package's default to another path
  Purge,                   // it goes, too
  Restore,                 // as it stood before what is taken back
  Ask,                     // not decided yet: the administrator will be asked
};
std::string_view text_of(ConfigAction action);

struct ConfigStep {
  ConfigAction action = ConfigAction::Wait;
  std::string path, package;  // of a package that is or was installed
  std::string from{};         // where the administrator's stood, if not at `path`
  // Of what stands at the path, before and after; none: no regular file does.
  std::optional<Digest> before{}, after{};
  bool leftover = false;  // of Purge: its package was gone already
  std::string text() const;
  bool changes_file() const {
    if (!from.empty()) return true;
    return action != ConfigAction::Keep && action != ConfigAction::Wait && action != ConfigAction::Ask;
  }
};

/// A link that leads from a path to the candidate that serves it.
struct LinkStep {
  std::string path;           // relative to the root, as the others
  std::string before, after;  // files; empty: there is no link
  std::string package;        // whose file it is afterwards, or was
  bool picked = false;        // by the administrator; else it has the highest rank
  std::string lost{};         // the file that was picked, and is not a candidate any more
};

/// An account that is made in the root's passwd or group.
struct AccountStep {
  std::string name, package;
  std::string text{};  // what it is for
  std::uint32_t id = 0;
  bool group_only = false;
  bool goes = false;  // it is taken out again
};

/// A program of a package that runs before anything is switched, on a preview of the system.
struct Run {
  enum class Kind { Trigger, Hook };  // stored in the ledger: never renumber
  Kind kind = Kind::Trigger;
  std::string package;
  std::string program;                // as it would be written on a command line
  std::string occasion;               // of a hook: install, upgrade, downgrade or remove
  std::string why;                    // of a trigger, and of what is made up for
  std::vector<std::string> writes{};  // globs of what it may write
  bool before = false;                // on a preview of the system as it was
  bool is_new = false;                // the version that was installed had no hooks
  bool left_out = false;              // it is not run: that is recorded, and it is due from then on
  std::string why_text() const;
};

/// An installed package that an upgrade leaves behind what a followed channel offers; as many as its level counts, and
/// those that are held.
struct HeldBack {
  std::string name, stays, offered;  // versions; `stays` is empty where it is removed
  PackageId offered_id{};
  std::string renamed{};     // what `offered` is a version of, where something else takes over
  bool held = false;         // by a hold
  std::string why, by;       // what has to give way for it, a sentence, and the name of the first of that; or empty
  std::size_t together = 0;  // so many that are held back could come if that gave way, and nothing else were lost
};

/// What becomes of a service, beside the switch.
struct ServiceStep {
  enum class Kind { Enable, Disable, Stop, Start, Restart, Reload };  // stored in the ledger: never renumber
  Kind kind = Kind::Restart;
  std::string name, package;
  std::string occasion{};            // what becomes of its package: installed, upgraded, removed, ...
  bool stopped_before = false;       // of Restart: it is stopped before the switch, and started after it
  std::uint32_t rehearsal = 0;       // and before its package's hooks run, which may take so many seconds; 0: not
  bool must_run = false;             // whatever it is doing now
  std::vector<std::string> check{};  // words: it is healthy if this returns 0
  std::uint32_t check_seconds = 0;   // that it may take until then
  std::string text() const;
};
std::string_view text_of(ServiceStep::Kind kind);

/// A question of a package, and its answer.
struct AskStep {
  enum class From { Open, Asked, Given, Settings, Kept, Default };  // stored in the ledger: never renumber
  std::string package, key, text;
  std::string kind{};                  // as package.toml has it
  std::vector<std::string> choices{};  // of kind choice
  std::string usual{};                 // its default
  From from = From::Open;              // Open: it is asked before anything is changed
  std::string answer{};                // none of a secret
  bool is_secret() const { return kind == "secret"; }
  std::string from_text() const;
};

/// The channel that a package follows from then on, instead of those of its repository; empty: these.
struct FollowStep {
  std::string name, before, after;
  std::string text() const;
};

struct [[nodiscard]] Plan {
  std::string kind;  // install, remove, upgrade, undo
  std::vector<Step> steps;
  std::vector<ConfigStep> configs;
  std::vector<Notice> notices;
  std::vector<HeldBack> held_back;
  std::vector<FollowStep> follows;
  std::vector<LinkStep> links;
  std::vector<AccountStep> accounts;
  std::vector<AskStep> questions;
  std::vector<Run> runs;              // in their order
  std::vector<ServiceStep> services;  // in the order of their packages' steps
  std::vector<std::string> unneeded;  // names that nothing wanted needs afterwards, and that this plan leaves
  /// What `upgrade --drop-strays` would do about those left behind, where wanted packages that nobody offers any more
  /// are in the way.
  struct WithoutStrays {
    std::size_t held_back = 0;         // so many then
    std::vector<std::string> dropped;  // names of wanted packages that would go
  };
  std::optional<WithoutStrays> without_strays;
  bool proved = true;  // that nothing better meets the request; else the best found in the time allowed
  bool empty() const {
    return steps.empty() && configs.empty() && runs.empty() && links.empty() && services.empty() && follows.empty();
  }
  ByteCount download() const;
  std::int64_t size_change() const;
  std::size_t count(Action action) const;
};

/// "a, b and 5 more": the first of a list that may be long.
std::string some_of(std::vector<std::string> names, std::size_t most = 6);

/// What of a root matters to a plan of packages, beside the packages.
struct Circumstances {
  std::string kind{};                       // of the plan, as the ledger names it
  std::set<PackageId> at_hand{};            // their package files need no download;
  std::map<PackageId, ByteCount> partly{};  // of these so many bytes have come, in a try that was interrupted
  std::map<PackageId, Reason> shelved{};    // these come back from the shelf as what they were
  bool keeps_reasons = false;               // another version changes nothing about why a package is there
  bool holds_asked = false;                 // what was asked for by name is held from then on
  /// Asked where something would be left behind: what letting go of packages that nobody offers any more would bring.
  std::function<std::optional<Plan::WithoutStrays>()> weigh_strays{};
};

/// The steps from what is installed to the selection. Nobody changes them afterwards.
[[nodiscard]] Plan make_plan(const Universe& universe, const solve::Request& request, const solve::Selection& selection,
                             const Circumstances& circumstances = {});
/// The same with what problems_of and leads_to find wrong with it, looked for meanwhile.
struct [[nodiscard]] CheckedPlan {
  Plan plan;
  std::vector<std::string> problems;
};
[[nodiscard]] CheckedPlan make_checked_plan(const Universe& universe, const solve::Request& request,
                                            const solve::Selection& selection, const Circumstances& circumstances = {});

/// How many packages a selection leaves behind, and which wanted ones it lets go.
Plan::WithoutStrays weigh(const Universe& universe, const solve::Request& request, const solve::Selection& selection);

/// An independent check of a set of packages, sharing no code with the solver and none of the candidates that were
/// found beforehand: every requirement met inside the set, no conflict, no more versions of a name than may be. Returns
/// sentences about what is wrong. What was wrong before is not held against the set: `before` is what is installed.
std::vector<std::string> problems_of(const Universe& universe, const std::vector<PackageId>& set,
                                     const std::vector<PackageId>& before = {});
/// Those of a set whose own relations are not met in it.
std::vector<PackageId> troubled(const Universe& universe, const std::vector<PackageId>& set);
/// Where only `stay` is left of what is installed: those of them that then lack something, and those that lack these,
/// and so on. Without them the rest holds together as well as before.
std::vector<PackageId> all_that_need(const Universe& universe, std::vector<PackageId> stay);
/// And of a selection: is the request met, does nothing wanted or held go that the request does not name?
std::vector<std::string> problems_of(const Universe& universe, const solve::Request& request,
                                     const solve::Selection& selection);
/// Do the steps of a plan lead from what is installed to this set?
bool leads_to(const Universe& universe, const Plan& plan, const std::vector<PackageId>& chosen);

}  // namespace hambrel::plan
