// repair --rebuild: a state that was lost, made anew.
#include "operations/rebuilding.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

namespace {

Json to_json(const operations::RebuildProposal& proposal, const char* result) {
  Json installed = Json::array();
  for (const auto& one : proposal.planned.installed)
    installed.push_back({{"name", one.package.package.name},
                         {"version", one.package.package.version.text()},
                         {"arch", one.package.package.arch},
                         {"from", one.from.empty() ? Json() : Json(one.from)}});
  return {{"kind", "rebuild"},
          {"installed", std::move(installed)},
          {"transactions", proposal.planned.history.size()},
          {"result", result}};
}

void print(const Session& session, const operations::RebuildProposal& proposal) {
  const Screen& screen = session.screen();
  const auto& [planned, broken] = proposal;
  screen.line(screen.paint(Style::Strong, "The state will be recreated") +
              fmt::format(" from {}.", count_text(planned.history.size(), "transaction", "transactions")));
  screen.line();
  Table table;
  for (const auto& one : planned.installed) {
    const bool found = !one.from.empty();
    const char* const state = one.package.shelved ? "shelved" : "installed";
    table.row({{found ? state : "lost", found ? Style::Plain : Style::Warn},
               {one.package.package.name, Style::Name},
               {one.package.package.version.text()},
               {text_of(one.package.reason)},
               {found ? one.from : "its package file is nowhere to be found: its files stay; install it again",
                Style::Faint}});
  }
  table.print(screen);
  screen.line();
  if (!broken.empty()) screen.remark("later transactions are not known: " + printable(broken));
  const std::size_t others = planned.versions - planned.known;
  if (others > 0)
    screen.remark(fmt::format("{} in the ledger {} not available anywhere; there is no going back to {}",
                              count_text(others, "version", "versions"), others == 1 ? "is" : "are",
                              others == 1 ? "it" : "them"));
  screen.remark(fmt::format(
      "packages' files are not touched; the old attic and checkpoints are useless without the lost state and "
      "are moved aside in /{}",
      operations::kStateDirectory));
}

}  // namespace

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
