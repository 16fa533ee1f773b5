// What `list` shows: packages by condition, and lists of other things. Each returns how many there are.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "cli/session.h"
#include "operations/listed.h"

namespace hambrel::cli {

struct ListingTerms {
  std::vector<std::string> conditions;  // as they were given
  operations::Order order = operations::Order::Name;
  std::optional<std::uint64_t> most{};  // shown; all are counted
};

/// The packages that meet conditions, in the form that fits what the conditions are about.
std::size_t show(Session& session, const ListingTerms& terms);

std::size_t show_shelved(Session& session);
std::size_t show_leftover(Session& session);
std::size_t show_generated(Session& session);
std::size_t show_vulnerable(Session& session);
std::size_t show_buildable(Session& session);

}  // namespace hambrel::cli
