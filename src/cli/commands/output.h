// What commands that write figures and pages have in common.
#pragma once

#include <string>

#include "cli/session.h"
#include "cli/show/command_text.h"
#include "cli/show/refusal.h"
#include "os/file_system.h"
#include "report/facts.h"
#include "report/output.h"

namespace hambrel::cli {

/// -o; throws Error{Usage} where it is missing.
inline std::string output_file(const Arguments& arguments) {
  const auto file = arguments.value("output");
  if (!file || file->empty())
    throw Error(ErrorCode::Usage, "where to write it is not said", {}, "name a file with -o FILE");
  return *file;
}

inline report::Theme theme_of(const Arguments& arguments) {
  return arguments.has("dark") ? report::Theme::Dark : report::Theme::Light;
}

/// For what is written about the root of the session, and may be read in another directory.
inline report::Copyable copyable_for(const Session& session) {
  return [root = "/" + os::host_path(session.root_path())](const std::string& command) {
    return command_with_root(command, root);
  };
}

/// --depth, 0 for all.
std::size_t depth_of(const Arguments& arguments);

}  // namespace hambrel::cli
