// pick: which candidate serves a path.
#include "operations/picks.h"

#include "cli/carry.h"
#include "cli/show/differences.h"
#include "os/host.h"

namespace hambrel::cli {

int run_pick(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  const std::string path = words.empty() ? std::string() : os::host_path(words[0]);
  if (words.size() < 2) {
    show(session, operations::candidates(session.root(), path));
    return 0;
  }
  open_for(session, arguments);
  operations::PickRequest request;
  request.path = path;
  request.choice = words[1];
  request.end = end_of(arguments);
  return carry_out(session, arguments, operations::propose(session.root(), request));
}

}  // namespace hambrel::cli
