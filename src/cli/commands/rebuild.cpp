// repair --rebuild: a state that was lost, made anew.
#include "operations/rebuilding.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/verification.h"

namespace hambrel::cli {

int run_rebuild(Session& session, const Arguments& arguments) {
  if (arguments.has("prepare") || arguments.has("fast"))
    throw Error(ErrorCode::Usage, "--rebuild cannot be combined with --prepare or --fast", {}, "leave them out");
  const auto specs = parse_specs(arguments.words());
  for (const Spec& spec : specs)
    if (spec.kind != Spec::Kind::File)
      throw Error(ErrorCode::Usage, fmt::format("{} is not a package file", printable(spec.text)), {},
                  "with --rebuild you can only name package files, as ./NAME.hambrel");
  session.without_state(arguments);
  session.tell_of_unusable_repositories();
  const auto proposal = operations::propose(session.root(), {arguments.value("ledger").value_or(""), specs});
  const auto show_it = [&] {
    if (session.json()) return session.document(to_json(proposal, "dry run"));
    print(session, proposal);
  };
  if (!shown_and_agreed(session, arguments, show_it)) return 0;
  const auto id = number(operations::perform(session.changed(), proposal, arguments.value("reason").value_or("")));
  Json document = to_json(proposal, "done");
  document["transaction"] = id;
  session.say(document,
              fmt::format("\n{} as transaction {}. `{}` compares the files with it.",
                          session.screen().paint(Style::Strong, "Done"), id, session.copyable("hambrel verify")));
  return 0;
}

}  // namespace hambrel::cli
