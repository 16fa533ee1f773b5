#include "cli/carry.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/show/plan.h"
#include "cli/terminal/config_dialogue.h"
#include "os/host.h"

namespace hambrel::cli {

using operations::End;
using operations::Outcome;
using operations::Proposal;

void begin(Session& session, const Arguments& arguments) {
  if (arguments.has("no-files") && !arguments.has("dry-run"))
    throw Error(ErrorCode::Usage, "--no-files goes only with --dry-run", {},
                "what a change does to files must be known before it is done");
  if (const auto choice = arguments.value("configs")) operations::parse_config_action(*choice);
  open_for(session, arguments);
  session.tell_of_unusable_repositories();
}

void open_for(Session& session, const Arguments& arguments) {
  if (!arguments.has("dry-run") && is_consent_possible(session, arguments)) session.change(arguments);
}

End end_of(const Arguments& arguments) {
  if (arguments.has("download-only")) return End::FetchOnly;
  return arguments.has("prepare") ? End::Prepare : End::Switch;
}

operations::ConfigTerms config_terms(const Session& session, const Arguments& arguments) {
  operations::ConfigTerms terms;
  if (const auto given = arguments.value("configs")) terms.action = operations::parse_config_action(*given);
  terms.markers = arguments.has("markers");
  terms.may_ask = !session.json() && !arguments.has("yes") && can_ask();
  return terms;
}

operations::ChangeRequest change_request(Session& session, const Arguments& arguments, const std::string& kind) {
  operations::ChangeRequest request;
  request.kind = kind;
  request.solve.budget = session.settings().budget * solve::kStepsPerSecond;
  request.solve.arch = session.arch();
  request.solve.recommended = !arguments.has("no-recommended");
  request.solve.drop_unneeded = arguments.has("unneeded");
  request.purge = arguments.has("purge");
  request.strict = arguments.has("strict");
  request.look_at_files = !arguments.has("no-files");
  request.weigh_strays = !session.quiet();
  request.configuration = config_terms(session, arguments);
  request.end = end_of(arguments);
  return request;
}

int show_nothing(const Session& session, const plan::Plan& plan) {
  if (session.json()) {
    session.screen().line(canonical({{"plan", to_json(plan)}, {"result", "nothing to do"}}));
    return 0;
  }
  if (session.quiet()) return 0;
  session.screen().line(plan.kind == "upgrade" && plan.held_back.empty()
                            ? "Nothing to do: everything is at its newest version."
                            : "Nothing to do: it is all as asked for.");
  print_held_back(session, plan);
  return 0;
}

namespace {

void show(const Session& session, const Arguments& arguments, const Proposal& proposal) {
  if (session.json()) {
    if (arguments.has("dry-run"))
      session.screen().line(canonical({{"plan", to_json(proposal.plan())}, {"result", "dry run"}}));
    return;
  }
  if (session.quiet() && arguments.has("yes")) return;
  print_plan(session, proposal.plan());
  for (const std::string& remark : proposal.remarks()) session.screen().remark(remark);
}

}  // namespace

int carry_out(Session& session, const Arguments& arguments, operations::ChangeRequest request) {
  for (;;) {
    auto proposed = operations::propose(session.root(), std::move(request));
    if (auto* const proposal = std::get_if<std::unique_ptr<Proposal>>(&proposed.result)) {
      if (arguments.has("verbose")) session.progress().note(proposed.measured);
      if ((*proposal)->plan().empty()) return show_nothing(session, (*proposal)->plan());
      return carry_out(session, arguments, std::move(*proposal));
    }
    const auto& refused = std::get<operations::Refused>(proposed.result);
    const auto remedies = print_refusal(session, refused);
    const auto taken = choose_remedy(session, arguments, remedies);
    if (!taken) return exit_code(ErrorCode::Refused);
    request = operations::take(session.root(), refused, remedies[*taken]);
  }
}

int carry_out(Session& session, const Arguments& arguments, std::unique_ptr<Proposal> proposal, bool agreed) {
  if (!agreed) {
    show(session, arguments, *proposal);
    if (arguments.has("dry-run")) return 0;
    require_consent_possible(session, arguments);
    if (!proposal->questions().empty()) {
      proposal->decide(ask_about(session, proposal->questions()));
      print_configs(session.screen(), proposal->plan().configs);
    }
    ask_consent(session, arguments);
  }
  const os::InterruptGuard guard;
  operations::Terms terms;
  terms.reason = arguments.value("reason").value_or("");
  terms.stop_asked = [&guard] { return guard.asked(); };
  const Outcome outcome = proposal->perform(session.changed(), terms);
  show(session, proposal->plan(), outcome);
  // the process ends soon: to give back what it held piece by piece would take a twentieth of an upgrade
  [[maybe_unused]] static const Proposal* const held = proposal.release();
  return 0;
}

operations::PlannedTerms planned_terms(const Arguments& arguments) {
  operations::PlannedTerms terms;
  terms.end = end_of(arguments);
  terms.release = arguments.values("release");
  terms.name_holds = arguments.has("yes");
  return terms;
}

state::TxnId parse_id(const std::string& text) {
  const auto value = parse_number(text);
  if (!value || *value == 0 || *value > INT64_MAX)
    throw Error(ErrorCode::Usage, fmt::format("\"{}\" is not the number of a transaction", printable(text)), {},
                "`hambrel ledger` shows the numbers");
  return state::TxnId{static_cast<std::int64_t>(*value)};
}

}  // namespace hambrel::cli
