// Configuration files: what is kept of them so that they can be settled, and what becomes of them in a change.
//
// Every configuration file that a package file brings is kept in its pristine content too, once for all that are alike,
// under kPristine by its digest: so there is a text that both the administrator's and the package's version began from.
// It is written before the transaction is journaled and read only when its digest is right, so a crash can't harm it;
// more may lie there than is needed. What waits to be settled is told by files, which transactions move like all
// others: the new content below kWaiting, and below kBase the content that the administrator's version began from.
//
// Rules, by what stands at the path and what the package had there before:
//   C3.1 nothing, though the version before had it: stays away
//   C3.2 pristine: replaced; mode, owner and access list as they were set
//   C3.3 edited, and the package's is what it was: stays
//   C3.4 as the new version brings it: stays
//   C3.5 both changed: as chosen, without a choice it stays and the new one waits
//   C3.6 the default moved to another path: the administrator's version follows it
//   C3.7 the package goes, or has it no more: what was edited stays as a leftover, unless it is purged
// Never is what somebody edited replaced or removed unless that was chosen, and then it lies in the attic.
#pragma once

#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "model/file_entry.h"
#include "os/file_system.h"
#include "plan/plan.h"
#include "state/state.h"
#include "txn/owners.h"

namespace hambrel::txn {

inline constexpr const char* kConfigs = "var/lib/hambrel/configs";
inline constexpr const char* kWaiting = "var/lib/hambrel/configs/waiting";
inline constexpr const char* kBase = "var/lib/hambrel/configs/base";
inline constexpr const char* kPristine = "var/lib/hambrel/pristine";

std::string waiting_place(const std::string& path);
std::string base_place(const std::string& path);
std::string pristine_place(const Digest& digest);
/// Where it lies, if it does and is whole.
std::optional<std::string> find_pristine(os::FileReader& root, const Digest& digest);
/// Of the extended attributes of a file those that somebody sets: access lists, capabilities, and those of users.
os::ExtendedAttributes own_attributes(os::FileReader& root, const std::string& path);

/// What the administrator decided about one file.
struct Choice {
  plan::ConfigAction action = plan::ConfigAction::Wait;
  std::string content{};  // of Merge and Edit
};
using Choices = std::map<std::string, Choice>;  // by path

/// A file that both sides changed. Content is found under the paths.
struct Conflict {
  std::string path, package;
  std::string mine;               // where the administrator's version stands: `path`, unless the default has moved
  std::string base;               // where the content lies that it began from; empty: it is not known
  FileEntry theirs;               // what the package brings; its path is that in the package
  std::size_t package_index = 0;  // of the entering ones
};

enum class ConfigState { Pristine, Edited, Missing, Waiting, Leftover };
std::string_view text_of(ConfigState state);

/// A configuration file of what is installed or shelved, or one that stayed when its package went.
struct ConfigFile {
  std::string path;
  state::StatePackage package;
  FileEntry entry;  // as the package brought it
  ConfigState state = ConfigState::Pristine;
  state::TxnId left{};  // of a leftover: the transaction in which its package went
};
/// All of them, by path.
std::vector<ConfigFile> configuration_files(os::FileReader& root, const state::State& state);

/// Pristine contents that neither one of these files, which are all, nor what the attic can bring back began from:
/// places and sizes. None while something is prepared, whose contents lie there already.
std::vector<std::pair<std::string, ByteCount>> idle_pristine(os::FileReader& root, const state::State& state,
                                                             const std::vector<ConfigFile>& files);

/// A configuration file as one version of a package has it.
struct ConfigDefault {
  std::string_view path;
  Digest digest;
};
/// Which of the fresh ones each lost one has become, by number: alike, else of the same name, else the only one below
/// what was a file, or the file that was a directory. Only where neither fits any other.
std::vector<std::pair<std::size_t, std::size_t>> moved_defaults(const std::vector<ConfigDefault>& lost,
                                                                const std::vector<ConfigDefault>& fresh);

/// The rules above, applied to one file at a time.
class ConfigRules {
 public:
  ConfigRules(os::FileReader& root, const state::State& state, const Choices& choices)
      : root_(root), state_(state), choices_(choices) {}

  /// A configuration file that a package brings.
  struct Case {
    std::string path, package;
    std::size_t package_index = 0;
    const FileEntry* coming = nullptr;
    std::optional<FileEntry> before{};   // of the version that leaves, at the path or at `from`
    std::string from{};                  // where that stood, if the default has moved
    std::optional<os::FileInfo> disk{};  // at the path, or at `from`
    bool from_kept = false;              // the content comes from the attic: nothing waits
    bool from_shelf = false;             // it is there already, as far as it is to be there
  };
  enum class Asides { Untouched, Drop, Wait };
  struct Outcome {
    enum class Kind { Leave, Bring, Write };  // Write: `entry`, with content from `kept` or `content`
    Kind kind = Kind::Bring;
    FileEntry entry{};
    std::string kept{};
    std::optional<std::string> content{};
    Asides asides = Asides::Untouched;
    std::string base{};        // of Wait: where the content lies that the administrator's began from; empty: unknown
    bool leaves_from = false;  // what stands at `from` goes though it was edited
  };
  Outcome judge(const Case& one);

  std::vector<plan::Notice> notices;
  std::vector<plan::ConfigStep> steps;
  std::vector<Conflict> conflicts;

 private:
  Outcome settle(const Case& one, const std::optional<Digest>& now, Conflict conflict);
  Outcome carried(const Case& one, const Digest& now) const;
  FileEntry with_marks_of(const Case& one) const;
  Outcome pristine(const Case& one);
  std::optional<Digest> base_of_leftover(const Case& one);

  os::FileReader& root_;
  const state::State& state_;
  const Choices& choices_;
  std::optional<Owners> owners_;
  std::optional<std::vector<state::Replaced>> replaced_;
};

}  // namespace hambrel::txn
