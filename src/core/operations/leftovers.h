// Configuration that stayed when its package was removed, and what else of configuration is of no use any more.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "operations/proposal.h"
#include "txn/configuration.h"

namespace hambrel::operations {

std::vector<txn::ConfigFile> leftovers_of(Root& root);
/// The same, with all of configuration at hand.
std::vector<txn::ConfigFile> leftovers_among(std::vector<txn::ConfigFile> files);

/// Takes these away, with the directories that are empty then: a transaction of its own, which undo takes back.
[[nodiscard]] std::unique_ptr<Proposal> propose_purge(Root& root, const std::vector<txn::ConfigFile>& leftovers,
                                                      const PlannedTerms& terms);

/// Pristine contents that no file is based on any more: place and size in bytes. They are of no use to anybody.
using IdlePristine = std::vector<std::pair<std::string, ByteCount>>;
/// Nothing where this user may not look.
IdlePristine idle_pristine(Root& root);
IdlePristine idle_pristine(Root& root, const std::vector<txn::ConfigFile>& files);
/// Removes them, for good.
void drop(ChangingRoot& root, const IdlePristine& idle);

}  // namespace hambrel::operations
