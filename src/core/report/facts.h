// All that a report tells of a root, as one value: the page, the figures, the mail and the JSON are made from it, and
// from nothing else.
//
// Gathered by looking only. What can't be looked at by this user, or is damaged, stands among the gaps; the rest is
// told all the same.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include <nlohmann/json_fwd.hpp>

#include "operations/root.h"
#include "plan/plan.h"

namespace hambrel::report {

/// A command as whoever reads the report can copy it: with the root that it is about.
using Copyable = std::function<std::string(const std::string&)>;

struct InstalledFact {
  std::string name, version, arch, category;
  ByteCount bytes = 0;
  bool is_wanted = false, is_held = false, is_unneeded = false;
  ByteCount freed = 0;        // by removing it with what then nothing needs; 0 where others need it
  std::size_t needed_by = 0;  // so many need it, so that it can't go alone
  std::int64_t since = 0;     // seconds
  std::string origin;
};

struct UpgradeFact {
  std::string name, from, to, origin;
  std::int64_t since = 0;  // when the installed version came, seconds
  bool is_held = false;
  std::string why{};                 // of a hold
  std::vector<std::string> fixes{};  // known security problems
};

struct TransactionFact {
  std::int64_t id = 0, ended = 0;  // seconds
  std::string kind, user, command, note, result, problem;
  std::size_t installed = 0, upgraded = 0, downgraded = 0, removed = 0, other = 0;  // packages
  std::int64_t size_change = 0;                                                     // bytes
  std::optional<std::int64_t> undoes{}, undone_by{};
  std::optional<ByteCount> attic{};  // what going back behind it costs now; nothing: it can't be undone any more
  bool is_done() const { return result == "done"; }
  /// After it, as the ledger tells.
  std::size_t packages_after = 0;
  std::int64_t bytes_after = 0;
};

struct CheckpointFact {
  std::string name, note;
  std::int64_t after = 0, time = 0;
  ByteCount attic = 0;
};

struct SpaceFact {
  std::string area;
  std::size_t count = 0;
  ByteCount bytes = 0, free = 0;
  std::string command;  // what frees it
};

struct SourceFact {
  std::string name, url, trust, problem;
  bool is_enabled = true;
  std::vector<std::string> keys{};
  std::int64_t fetched = 0, expires = 0;  // seconds; 0: never, not known
  std::size_t installed = 0, offered = 0;
};

struct ConfigFact {
  std::string path, package, state;
};
struct MadeFact {
  std::string path, package, program;
};
struct ServiceFact {
  std::string name, package;
  std::size_t replaced = 0;  // files that it runs on and that were replaced since
};

struct Facts {
  std::string root;  // its absolute path
  std::string host;  // of this machine's own root; else empty
  std::string arch;
  std::int64_t now = 0;
  std::vector<InstalledFact> packages;
  std::uint64_t files = 0;
  ByteCount bytes = 0;
  std::vector<UpgradeFact> upgrades;
  std::vector<TransactionFact> transactions;  // oldest first
  std::vector<CheckpointFact> checkpoints;
  std::vector<SpaceFact> space;
  std::vector<SourceFact> sources;
  std::vector<ConfigFact> configs;  // those that are not as their packages brought them
  std::size_t configs_in_all = 0;
  std::vector<MadeFact> made;
  std::vector<ServiceFact> services_due;
  std::vector<std::string> programs_due;  // of packages, that could not run yet
  struct Verified {
    std::int64_t time = 0;
    std::size_t packages = 0, files = 0, damaged = 0;
    bool is_fast = false;
  };
  std::optional<Verified> verified{};  // the last time that all of it was
  std::vector<std::string> gaps;
  Copyable copyable = [](const std::string& command) { return command; };

  std::size_t wanted() const;
  ByteCount to_be_freed() const;
};

Facts facts_of(operations::Root& root, Copyable copyable);
nlohmann::json to_json(const Facts& facts);

/// The last `verify` of all packages: kept in the cache, where this user may write there.
void note_verified(operations::Root& root, const Facts::Verified& verified);

}  // namespace hambrel::report
