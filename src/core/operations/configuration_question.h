// Configuration that both sides changed: as a question that can be shown, and what is decided without asking.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/merge.h"
#include "operations/supply.h"
#include "txn/settle.h"

namespace hambrel::operations {

struct ConfigQuestion {
  std::string path, package;  // "tidewatch 2.0-1 -> 2.1-1"
  txn::ConfigTexts texts;
  bool news = true;                // the package's version is another than the one that the administrator's began from
  std::optional<Merged> merged{};  // what both changes come to, where that can be known; decide() fills it in

  bool merges_cleanly() const { return merged && merged->clean; }
};

/// What is to become of configuration, by path.
using Decision = txn::Choice;
using Decisions = txn::Choices;

/// How configuration is decided on where that is not asked.
struct ConfigTerms {
  std::optional<plan::ConfigAction> action{};  // for all of it
  bool markers = false;                        // a merge that conflicts is taken, with markers
  bool may_ask = false;                        // what neither this nor the settings decide stays open; else it waits
  bool heed_settings = true;
};

struct ConfigDecisions {
  Decisions choices;                  // decided
  std::vector<ConfigQuestion> open;   // clean merges first
  std::vector<plan::Notice> notices;  // why a merge that was decided on is not to be had
};

/// keep, take, merge or wait; throws Error{Usage} for anything else.
plan::ConfigAction parse_config_action(const std::string& word);

ConfigDecisions decide(Root& root, std::vector<ConfigQuestion> questions, const ConfigTerms& terms);

/// The questions that a change of packages brings: the packages' versions are read out of their files, of which no more
/// is fetched than that. `coming` are the entering packages.
std::vector<ConfigQuestion> questions_of(Root& root, const std::vector<txn::Conflict>& conflicts,
                                         const std::vector<PackageId>& coming, const Tables& tables,
                                         const plan::Plan& plan);

}  // namespace hambrel::operations
