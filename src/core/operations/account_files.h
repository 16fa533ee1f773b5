// Accounts that packages ask for, as files of a change: passwd, group, shadow and gshadow with more lines.
#pragma once

#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "operations/root.h"
#include "txn/transaction.h"

namespace hambrel::operations {

/// Adds them to what is planned, and to its plan: the files as they will be, beside those of the packages, one of which
/// may bring them at first. `content_of`: of what is staged from a package file. Throws Error{Refused} for an account
/// that does not fit. `going`: accounts of packages that are purged; those go that Hambrel made, that no other package
/// asks for, and that own nothing any more. The whole root is searched for that.
void add_accounts(Root& root, txn::Planned& planned,
                  const std::vector<std::pair<const Account*, std::string>>& accounts,
                  const std::vector<std::pair<const Account*, std::string>>& going,
                  const std::function<std::string(const txn::Put&)>& content_of);

}  // namespace hambrel::operations
