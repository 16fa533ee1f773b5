// What the administrator configured in /etc/hambrel/hambrel.toml. One file a repository: see repository.h.
#pragma once

#include <cstdint>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "os/file_system.h"
#include "settings/repository.h"

namespace hambrel::settings {

/// What is to become of configuration that both sides changed, where nobody is asked.
struct ConfigRule {
  std::string pattern;  // of paths, with * ? **, beginning with '/'
  std::string choice;   // keep, take, merge or wait
};

/// What is accepted from a network.
struct FetchLimits {
  std::uint64_t index_mebibytes = 256;  // of a compressed index
  unsigned document_seconds = 600;      // for a document or an index
  std::uint64_t least_rate = 512;       // bytes a second, on the average of a window
  unsigned window_seconds = 30;
};

/// What programs of packages may do, [hooks].
struct HookRules {
  bool allowed = true;                    // allow = "declared" or "none"
  unsigned seconds = 60;                  // that one may take
  std::uint64_t memory_mebibytes = 2048;  // of all their processes
  std::uint64_t mebibytes = 1024;         // that what it writes may take
  bool discard_undeclared = false;        // undeclared = "refuse" or "discard"
};

/// How services are acted on, [services].
struct ServiceRules {
  std::string manager = "auto";  // systemd, runit, sysv, commands or none
  bool undoes = false;      // failed = "tell" or "undo": what brought a service that does not come up is taken back
  std::string directory{};  // that runit watches, relative to the root; empty: the usual one
  // of "commands": words, in which {service} stands for its name
  std::vector<std::string> start{}, stop{}, restart{}, reload{}, status{};
};

/// What building from source may do, [build].
struct BuildRules {
  std::string directory{};                 // of the host; empty: the usual one
  unsigned seconds = 14400;                // that a step may take
  unsigned processes = 4096;               // at once
  std::uint64_t memory_mebibytes = 16384;  // of all of them
  std::uint64_t mebibytes = 32768;         // that what they write may take
};

/// Answers to questions of packages: by package and key.
struct Answer {
  std::string text;
  std::string at;  // "file:line"
};
using Answers = std::map<std::string, std::map<std::string, Answer>>;

struct Settings {
  std::vector<std::string> architectures;  // the root's own first, then others whose packages it takes as well
  std::map<std::string, std::string, std::less<>> follow;  // package name -> the channel that it follows
  // Days after which what is known of a repository is old: plans say so. Where the file sets it, changes refresh first.
  unsigned max_age = 7;
  bool refreshes_by_itself = false;
  unsigned budget = 5;     // seconds that finding a plan may take, about
  unsigned downloads = 0;  // at the same time; 0: as many as the way to the servers takes
  // How long the attic keeps what transactions replaced or removed; 0: no such limit.
  std::uint64_t attic_transactions = 100, attic_days = 365, attic_mebibytes = 8192;
  // The same for package files in the cache: how many versions of each, how old, how much together.
  std::uint64_t cache_versions = 0, cache_days = 0, cache_mebibytes = 4096;
  FetchLimits fetch;
  HookRules hooks;
  ServiceRules services;
  BuildRules build;
  Answers answers;                                                // [answers.NAME]
  std::pair<std::uint32_t, std::uint32_t> account_ids{200, 999};  // of system accounts that packages ask for, inclusive
  std::vector<std::string> refused_licenses{};                    // [licenses] refuse: globs of SPDX ids
  std::set<std::string, std::less<>> protects;  // [protect] names: packages that are treated as essential
  bool accepts_unsigned_files = false;  // [files] unsigned = "allow": of package files from outside nobody is asked
  std::vector<ConfigRule> configs;      // the first one that fits counts
};

/// Settings of a root; missing files give the defaults. Throws Error{Invalid} with file:line.
Settings load_settings(os::FileReader& root, const std::string& config_path, const std::string& machine_arch);
/// A file of answers, which has a table for each package. Throws Error{NotFound}, Error{Invalid} with file:line.
Answers load_answers(os::FileReader& files, const std::string& path, const std::string& shown);

}  // namespace hambrel::settings
