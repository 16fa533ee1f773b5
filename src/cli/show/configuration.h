// Configuration files, and how versions of one differ.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "cli/session.h"
#include "operations/config_difference.h"
#include "operations/configuration.h"

namespace hambrel::cli {

/// Those in one of the states; without any all, where those that are as they were brought are only counted.
void show(const Session& session, const std::vector<operations::ConfigFile>& files,
          const std::set<operations::ConfigState>& states);
void show(const Session& session, const operations::ConfigComparison& comparison);

/// A diff, indented; at most so many lines, and how many are left out. 0: all.
void print_diff(const Screen& screen, const std::vector<DiffLine>& lines, std::size_t most);

/// Each in full.
void print_differences(const Screen& screen, const std::vector<operations::ConfigDifference>& differences);

/// waiting, edited, missing, leftover or pristine; throws Error{Usage} for anything else.
operations::ConfigState parse_config_state(const std::string& word);

}  // namespace hambrel::cli
