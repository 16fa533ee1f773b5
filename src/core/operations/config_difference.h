// What a plan changes in configuration files, as texts: for whoever wants to see it before agreeing.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "operations/root.h"
#include "txn/transaction.h"

namespace hambrel::operations {

/// None: there is no file.
struct ConfigDifference {
  std::string path;
  std::optional<std::string> before, after;
  bool known = true;  // false: one of them is not text, or its content is not what the plan means
};

/// The content of what is staged out of a package file.
using ContentOf = std::function<std::string(const txn::Put&)>;

/// Of those that a plan changes, in its order. What the texts say is what the plan's digests name. Throws
/// Error{Network} where `content_of` does.
std::vector<ConfigDifference> config_differences(Root& root, const plan::Plan& plan, const txn::Planned& planned,
                                                 const ContentOf& content_of);

}  // namespace hambrel::operations
