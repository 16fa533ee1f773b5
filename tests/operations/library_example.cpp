// Installs a package into a root and takes that back, through the library. docs/library.md shows this file.
#include <cstdio>
#include <string>
#include <variant>

#include "operations/change.h"
#include "operations/going_back.h"
#include "operations/select.h"

using namespace hambrel;

namespace {

/// What the library tells while it works; it never prints by itself.
class Teller final : public Observer {
 public:
  void note(std::string_view text) override { std::printf("note: %.*s\n", static_cast<int>(text.size()), text.data()); }
};

int run(const std::string& path, const std::string& name) {
  Teller teller;
  operations::RootOptions options;
  options.path = path;
  options.command = "library example";                 // as the ledger has it
  operations::ChangingRoot root(options, teller, 10);  // waits 10 seconds for the lock

  // A request: what is wanted.
  operations::ChangeRequest request;
  request.kind = "install";
  for (const Spec& spec : operations::parse_specs({name}))
    request.solve.install.push_back({spec.text, operations::select(root, spec)});

  // A proposal: the plan, or why there is none.
  auto proposed = operations::propose(root, std::move(request));
  if (const auto* const refused = std::get_if<operations::Refused>(&proposed.result)) {
    std::printf("refused: %s\n", refused->refusal.what.c_str());
    for (const plan::Remedy& remedy : operations::remedies_for(root, *refused).remedies)
      std::printf("  a way out: %s\n", remedy.command().c_str());
    return 3;
  }
  auto& proposal = *std::get<std::unique_ptr<operations::Proposal>>(proposed.result);
  for (const plan::Step& step : proposal.plan().steps)
    std::printf("%s %s: %s\n", step.name.c_str(), step.after.c_str(), step.why.text().c_str());

  // An outcome: all of it, or nothing.
  const operations::Outcome outcome = proposal.perform(root, {});
  std::printf("done as transaction %lld\n", static_cast<long long>(number(*outcome.transaction)));

  const operations::Outcome back = operations::propose_undo(root, *outcome.transaction, {})->perform(root, {});
  std::printf("and taken back by %lld\n", static_cast<long long>(number(*back.transaction)));
  return 0;
}

}  // namespace

int main(int count, char** words) {
  if (count != 3) return 2;
  try {
    return run(words[1], words[2]);
  } catch (const Error& problem) {
    std::printf("failed: %s\n  -> %s\n", problem.what(), problem.hint().c_str());
    return 1;
  }
}
