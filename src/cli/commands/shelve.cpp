// shelve and unshelve.
#include "operations/shelf.h"

#include "cli/carry.h"

namespace hambrel::cli {

int run_shelve(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  return carry_out(session, arguments, operations::propose_shelve(session.root(), specs, planned_terms(arguments)));
}

int run_unshelve(Session& session, const Arguments& arguments) {
  const auto specs = parse_specs(arguments.words());
  begin(session, arguments);
  operations::ChangeRequest request = change_request(session, arguments, "unshelve");
  operations::add_unshelved(session.root(), specs, request);
  return carry_out(session, arguments, std::move(request));
}

}  // namespace hambrel::cli
