#include "operations/picks.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "os/host.h"
#include "txn/links.h"

namespace hambrel::operations {

namespace {

txn::Candidates all_of(Root& root) {
  txn::Candidates all;
  if (root.state() != nullptr)
    for (const state::StatePackage& one : root.state()->acting())
      txn::add_candidates(all, one.package.name, *one.package.actions);
  return all;
}

[[noreturn]] void refuse_unknown(const std::string& path) {
  throw Error(ErrorCode::NotFound, "no installed package is a candidate for this path", "/" + printable(path),
              "`hambrel pick` lists the paths that have candidates");
}

}  // namespace

std::vector<PickCandidate> candidates(Root& root, const std::string& path) {
  std::vector<PickCandidate> found;
  const auto picks = root.state() == nullptr ? std::map<std::string, std::string>() : root.state()->picks();
  for (const auto& [served, list] : all_of(root)) {
    if (!path.empty() && served != path) continue;
    const txn::LinkCandidate& serves = txn::serving(list, picks);
    const auto pick = picks.find(served);
    for (const txn::LinkCandidate& one : list)
      found.push_back(
          {served, one.file, one.package, one.rank, &one == &serves, pick != picks.end() && pick->second == one.file});
  }
  if (found.empty() && !path.empty()) refuse_unknown(path);
  return found;
}

std::unique_ptr<Proposal> propose(Root& root, const PickRequest& request) {
  const auto all = all_of(root);
  const auto list = all.find(request.path);
  if (list == all.end()) refuse_unknown(request.path);
  const auto picks = root.state()->picks();
  const auto now = picks.find(request.path);
  state::PickChange change{request.path, now == picks.end() ? "" : now->second, ""};
  if (request.choice != "auto") {
    const bool is_path = request.choice.find('/') != std::string::npos;
    const std::string file = is_path ? os::host_path(request.choice) : std::string();
    const auto& of_path = list->second;
    const auto chosen = std::find_if(of_path.begin(), of_path.end(), [&](const txn::LinkCandidate& one) {
      return one.package == request.choice || (is_path ? one.file == file : os::name_of(one.file) == request.choice);
    });
    if (chosen == of_path.end()) {
      std::vector<std::string> names;
      for (const txn::LinkCandidate& one : of_path) names.push_back(one.package);
      throw Error(ErrorCode::NotFound,
                  fmt::format("\"{}\" is no candidate for /{}", printable(request.choice), request.path), {},
                  "one of these, or auto: " + join(names, ", "));
    }
    change.after = chosen->file;
  }
  txn::Planned planned;
  planned.plan.kind = "pick";
  if (change.before != change.after) planned.picks.push_back(change);
  PlannedTerms terms;
  terms.end = request.end;
  return propose(root, std::move(planned), terms, {}, "this is so already");
}

}  // namespace hambrel::operations
