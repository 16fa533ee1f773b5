#include "cli/leftovers.h"

#include "cli/carry.h"
#include "os/host.h"

namespace hambrel::cli {

void keep_leftovers(std::vector<txn::ConfigFile>& files) {
  std::erase_if(files, [](const txn::ConfigFile& one) { return one.state != txn::ConfigState::Leftover; });
}

std::vector<txn::ConfigFile> leftovers_of(Session& session, const state::State& state) {
  std::vector<txn::ConfigFile> files = txn::configuration_files(session.files(), state);
  keep_leftovers(files);
  return files;
}

int purge_leftovers(Session& session, const Arguments& arguments, const std::vector<txn::ConfigFile>& leftovers) {
  txn::Planned planned;
  planned.plan.kind = "purge";
  txn::TreeOptions options;
  options.workers = os::processors();
  std::vector<state::StatePackage> gone;
  for (const txn::ConfigFile& one : leftovers)
    if (options.gone.insert(one.package.row).second) gone.push_back(one.package);
  options.purge = options.gone;
  planned.tree = txn::plan_tree(session.files(), *session.state(), gone, {}, options);
  planned.tell_of_files();
  return carry_out(session, arguments, std::move(planned));
}

}  // namespace hambrel::cli
