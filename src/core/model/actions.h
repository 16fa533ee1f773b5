// What a package asks for beyond its files: accounts and directories that are to be there, and programs that are to
// run.
//
// Declared in package.toml, carried by the manifest, carried out as docs/acting.md tells. Plain
// values: nothing here says what was done.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <nlohmann/json_fwd.hpp>

namespace hambrel {

class FastObject;
class JsonObject;
class TomlTable;

/// What is run: words, the first of them an absolute path; or a script with what reads it.
struct Program {
  std::vector<std::string> words{};
  std::string script{}, interpreter{};
  bool operator==(const Program&) const = default;
  /// As an administrator would write it, on one line; a script by its digest.
  std::string text() const;
};

/// Runs once in a transaction in which a path that it watches comes, goes or changes, whoever brings it.
struct Trigger {
  std::vector<std::string> watches{}, writes{};  // path globs, relative to the root
  Program program{};
  bool operator==(const Trigger&) const = default;
};

enum class HookMoment { Install, Upgrade, Downgrade, Remove };
std::string_view text_of(HookMoment moment);
std::optional<HookMoment> hook_moment_from(std::string_view text);

/// Runs when its package changes.
struct Hook {
  std::vector<HookMoment> when{};
  bool before = false;  // on a preview of the system as it was
  Program program{};
  std::vector<std::string> writes{};  // as a trigger's
  bool reads_live = false;            // what its services write: they are stopped before it runs
  bool operator==(const Hook&) const = default;
  bool is_for(HookMoment moment) const;
};

struct Account {
  bool group_only = false;
  std::string name{}, text{}, home{}, shell{};
  std::vector<std::string> groups{};  // others that it is a member of
  std::optional<std::uint32_t> id{};
  bool operator==(const Account&) const = default;
};

/// Is there as long as the package is installed; what programs put there is no package's.
struct OwnedDirectory {
  std::string path, user = "root", group = "root";
  std::uint32_t mode = 0755;
  bool operator==(const OwnedDirectory&) const = default;
};

/// A file of the package that can serve a path which others can serve, too: a link leads from there to the one that was
/// picked.
struct Candidacy {
  struct Link {
    std::string path, file;  // relative to the root
    bool operator==(const Link&) const = default;
  };
  Link link{};
  std::vector<Link> with{};  // that follow the same choice
  std::int64_t rank = 0;     // the highest serves where nobody picked
  bool operator==(const Candidacy&) const = default;
};

/// A program that the service manager of the system runs.
struct Service {
  enum class OnUpgrade { Restart, Reload, Nothing, StopBefore };  // StopBefore: it is stopped during the switch
  std::string name{};
  bool enable = true;  // it starts with the system, unless the administrator decided otherwise
  bool start = true;   // when its package comes
  OnUpgrade on_upgrade = OnUpgrade::Restart;
  std::vector<std::string> check{};    // words, the first an absolute path: it is healthy if this returns 0
  std::uint32_t check_seconds = 10;    // that it may take until then
  std::vector<std::string> targets{};  // of a systemd unit: what it is started with
  bool operator==(const Service&) const = default;
};
std::string_view text_of(Service::OnUpgrade one);
std::optional<Service::OnUpgrade> on_upgrade_from(std::string_view text);

/// What the administrator is asked before the first change; hooks are given the answer.
struct Question {
  enum class Kind { Choice, Text, YesNo, Number, Secret };
  std::string key{}, text{};
  Kind kind = Kind::Text;
  std::vector<std::string> choices{};  // of Choice
  std::optional<std::string> usual{};  // the answer where nobody gives one
  bool operator==(const Question&) const = default;
  bool is_secret() const { return kind == Kind::Secret; }
  /// What an answer must be, as a part of a sentence.
  std::string expected() const;
  bool takes(const std::string& answer) const;
  /// The variable in which hooks find it: HAMBREL_ANSWER_ and the key in capitals.
  std::string variable() const;
};
std::string_view text_of(Question::Kind kind);
std::optional<Question::Kind> question_kind_from(std::string_view text);

struct Actions {
  std::vector<Account> accounts{};
  std::vector<OwnedDirectory> directories{};
  std::vector<Trigger> triggers{};
  std::vector<Hook> hooks{};
  std::vector<Candidacy> candidates{};
  std::vector<Service> services{};
  std::vector<Question> questions{};
  bool empty() const {
    return accounts.empty() && directories.empty() && triggers.empty() && hooks.empty() && candidates.empty() &&
           services.empty() && questions.empty();
  }
  bool operator==(const Actions&) const = default;
};

/// None for a package that only carries files.
using SharedActions = std::shared_ptr<const Actions>;

/// The abilities that whoever installs a package with these must have.
std::vector<std::string> features_of(const Actions& actions);
bool is_known_feature(std::string_view feature);

/// The tables [[accounts]], [[directories]], [[triggers]], [[hooks]], [[candidates]], [[services]] and [[questions]].
/// Throws Error{Invalid} with file and line.
Actions read_actions(TomlTable& top);
/// The members of a manifest. Throws Error{Invalid} naming the manifest.
SharedActions read_actions(const JsonObject& manifest);
SharedActions read_actions(const FastObject& manifest);
/// Adds them to a manifest.
void put_actions(nlohmann::json& manifest, const Actions& actions);
/// Alone, as canonical JSON, and back; empty for none.
std::string actions_text(const SharedActions& actions);
SharedActions actions_from(std::string_view text);

}  // namespace hambrel
