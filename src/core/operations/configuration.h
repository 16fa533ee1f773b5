// The configuration files of a root: what differs, and settling what waits.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/merge.h"
#include "operations/proposal.h"
#include "txn/configuration.h"

namespace hambrel::operations {

using txn::ConfigFile;
using txn::ConfigState;

/// All of what is installed or shelved, and leftovers, by path.
std::vector<ConfigFile> configuration_files(Root& root);

/// One file, compared with another version of it.
struct ConfigComparison {
  enum class Against {
    Mine,  // from the administrator's to the package's,
    Old,   // from what the administrator's began from to his,
    New    // from the package's to the administrator's
  };
  Against against = Against::Mine;
  ConfigFile file;
  std::string before, after;
  std::vector<DiffLine> lines;
};
/// `against`: mine, old or new; empty: mine where a new version waits, else old. Throws Error{NotFound} for a path that
/// is no configuration file, Error{Refused} where a version is not known or no text.
ConfigComparison compare_configuration(Root& root, const std::string& path, const std::string& against);

struct SettleRequest {
  std::vector<std::string> paths{};  // none: all that wait
  ConfigTerms terms{};
  PlannedTerms planned{};
};
/// A plan without changes of packages. It may propose nothing: does_nothing().
[[nodiscard]] std::unique_ptr<Proposal> propose(Root& root, const SettleRequest& request);

}  // namespace hambrel::operations
