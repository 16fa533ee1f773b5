// repair --rebuild: a state that was lost, made anew.
#include "txn/rebuild.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "operations/proposal.h"
#include "operations/supply.h"
#include "os/host.h"

namespace hambrel::cli {

namespace {

constexpr std::uint64_t kMostBytes = 1ULL << 30;  // of an exported ledger

txn::History history_of(Session& session, const Arguments& arguments) {
  txn::History history;
  if (const auto file = arguments.value("ledger")) {
    const auto host = os::open_file_system("/");
    const std::string path = os::host_path(*file);
    if (!host->stat_followed(path))
      throw Error(ErrorCode::NotFound, "there is no such file", *file, "--ledger takes what `ledger export` wrote");
    history = txn::read_export(host->read_all(path, kMostBytes), *file);
  } else {
    history = txn::read_copy(session.files());
  }
  if (history.records.empty())
    throw Error(ErrorCode::Refused,
                history.broken.empty() ? "there is no copy of the ledger to make the state of" : history.broken,
                history.broken.empty() ? session.files().shown(txn::kLedgerCopy) : "",
                "give an export of it: --ledger FILE, as `hambrel ledger export` wrote it");
  return history;
}

/// Refused where the state is sound: then there is nothing to make anew.
void require_lost(Session& session) {
  if (!session.files().stat(kStateFile)) return;
  std::vector<std::string> damage;
  try {
    const state::State state(session.files(), kStateFile, state::Access::Look);
    damage = state.damage();
  } catch (const Error& problem) {
    if (problem.code() == ErrorCode::Locked || problem.code() == ErrorCode::Invalid) throw;
    return;
  }
  if (damage.empty())
    throw Error(ErrorCode::Refused, "the state of this root is sound: there is nothing to make anew",
                session.files().shown(kStateFile), "`hambrel repair` puts files right");
}

txn::FileOf file_of(Session& session, operations::VersionFiles& files, const std::vector<std::string>& given) {
  return [&session, &files, given](const state::StatePackage& one) -> txn::PackageFile {
    for (const std::string& spec : given) {
      auto* const reader = session.root().file_reader(session.root().file_package(spec));
      if (reader != nullptr && txn::key_of(reader->manifest()) == txn::key_of(one.package)) return {reader, true};
    }
    return files.file_of()(one);
  };
}

Json json_of(const txn::Rebuilding& planned, const char* result) {
  Json installed = Json::array();
  for (const auto& one : planned.installed)
    installed.push_back({{"name", one.package.package.name},
                         {"version", one.package.package.version.text()},
                         {"arch", one.package.package.arch},
                         {"from", one.from.empty() ? Json() : Json(one.from)}});
  return {{"kind", state::kRebuilding},
          {"installed", std::move(installed)},
          {"transactions", planned.history.size()},
          {"result", result}};
}

void print(const Session& session, const txn::Rebuilding& planned, const std::string& broken) {
  const Screen& screen = session.screen();
  screen.line(fmt::format("{} make the state anew out of {}", screen.paint(Style::Strong, "Plan:"),
                          count_text(planned.history.size(), "transaction", "transactions")));
  screen.line();
  Table table;
  for (const auto& one : planned.installed) {
    const bool found = !one.from.empty();
    table.row({{found ? one.package.shelved ? "shelved" : "installed" : "lost", found ? Style::Plain : Style::Warn},
               {one.package.package.name, Style::Name},
               {one.package.package.version.text()},
               {text_of(one.package.reason)},
               {found ? one.from : "its package file is nowhere: its files stay, install it again", Style::Faint}});
  }
  table.print(screen);
  screen.line();
  if (!broken.empty()) screen.remark("what came later is not known: " + printable(broken));
  const std::size_t others = planned.versions - planned.known;
  if (others > 0)
    screen.remark(fmt::format("{} that the ledger speaks of {} nowhere to be had: no going back to {}",
                              count_text(others, "version", "versions"), others == 1 ? "is" : "are",
                              others == 1 ? "it" : "them"));
  screen.remark(
      fmt::format("no file of a package is touched; the attic and checkpoints of before are of no use without the lost"
                  " state and are put aside in /{}",
                  kStateDirectory));
}

}  // namespace

int run_rebuild(Session& session, const Arguments& arguments) {
  if (arguments.has("prepare") || arguments.has("fast"))
    throw Error(ErrorCode::Usage, "--rebuild goes with neither --prepare nor --fast", {}, "leave them out");
  const auto specs = parse_specs(arguments.words());
  for (const Spec& spec : specs)
    if (spec.kind != Spec::Kind::File)
      throw Error(ErrorCode::Usage, fmt::format("{} is no package file", printable(spec.text)), {},
                  "with --rebuild only package files are named, as ./NAME.hambrel");
  session.without_state(arguments);
  require_lost(session);
  txn::History history = history_of(session, arguments);
  const std::string broken = history.broken;
  session.tell_of_unusable_repositories();
  session.root().add_files(specs);
  operations::VersionFiles files(session.root());
  const txn::Rebuilding planned = txn::plan_rebuilding(std::move(history), file_of(session, files, arguments.words()));
  const bool dry = arguments.has("dry-run");
  if (session.json() && dry) session.screen().line(canonical(json_of(planned, "dry run")));
  if (!session.json() && !(session.quiet() && arguments.has("yes"))) print(session, planned, broken);
  if (dry) return 0;
  ask_consent(session, arguments);
  txn::Account account = operations::account_of(session.root(), {}, arguments.value("reason").value_or(""));
  account.kind = state::kRebuilding;
  account.plan = canonical(json_of(planned, "done"));
  const state::TxnId id = txn::rebuild(session.files(), planned, account, os::now());
  if (session.json()) {
    Json object = json_of(planned, "done");
    object["transaction"] = number(id);
    session.screen().line(canonical(object));
  } else if (!session.quiet()) {
    session.screen().line(fmt::format("\n{} as transaction {}. `{}` tells whether the files agree.",
                                      session.screen().paint(Style::Strong, "Done"), number(id),
                                      session.copyable("hambrel verify")));
  }
  return 0;
}

}  // namespace hambrel::cli
