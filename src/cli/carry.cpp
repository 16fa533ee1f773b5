#include "cli/carry.h"

#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <set>

#include "base/assert.h"
#include "base/text.h"
#include "cli/saving.h"
#include "cli/show/acting.h"
#include "cli/show/configuration.h"
#include "cli/show/outcome.h"
#include "cli/show/plan.h"
#include "cli/show/refusal.h"
#include "cli/terminal/config_dialogue.h"
#include "cli/terminal/question_dialogue.h"
#include "operations/asking.h"
#include "operations/going_back.h"
#include "operations/repositories.h"
#include "operations/saved_plan.h"
#include "operations/services.h"
#include "os/interrupt.h"

namespace hambrel::cli {

using operations::End;
using operations::Outcome;
using operations::Proposal;

namespace {

void check_options(const Arguments& arguments) {
  if (arguments.has("no-files") && !arguments.has("dry-run"))
    throw Error(ErrorCode::Usage, "--no-files only works with --dry-run", {},
                "a change cannot be made without knowing what it does to files");
  if (const auto choice = arguments.value("configs")) operations::parse_config_action(*choice);
}

}  // namespace

/// With --refresh, or where hambrel.toml says how old indexes may be and they are older. What fails is told; what is
/// known is used then.
void refresh_first(Session& session, const Arguments& arguments) {
  const Command* const command = find_command(arguments.command());
  const bool brings =
      command != nullptr && std::any_of(command->options.begin(), command->options.end(),
                                        [](const OptionSpec& one) { return one.name == std::string("refresh"); });
  if (!brings) return;
  const bool is_due = session.root().settings().refreshes_by_itself && operations::oldest_index(session.root());
  if (!arguments.has("refresh") && !is_due) return;
  try {
    for (const auto& result : operations::refresh(session.root(), {}))
      if (result.problem)
        session.progress().note(
            fmt::format("{}: {}; what is known of it is used", result.repository, result.problem->what()));
  } catch (const Error& problem) {
    if (arguments.has("refresh")) throw;
    session.progress().note(fmt::format("the indexes are old, and could not be fetched: {}", problem.what()));
  }
}

void begin(Session& session, const Arguments& arguments) {
  check_options(arguments);
  open_for(session, arguments);
  refresh_first(session, arguments);
  session.tell_of_unusable_repositories();
}

void begin_refreshed(Session& session, const Arguments& arguments) {
  check_options(arguments);
  open_for(session, arguments);
  session.tell_of_unusable_repositories();
}

std::string text_given(const std::string& file) {
  if (file != "-") return operations::text_of_file(file);
  std::string text(operations::kMostGivenBytes + 1, '\0');
  std::cin.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(std::cin.gcount()));
  if (text.size() > operations::kMostGivenBytes)
    throw Error(ErrorCode::Usage, "standard input is larger than 16 MiB", {}, "give less at once");
  return text;
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

namespace {

std::set<std::string, std::less<>> allowed_essential(const Arguments& arguments) {
  const auto names = arguments.values("allow-essential");
  return {names.begin(), names.end()};
}

operations::ActingTerms acting_terms(const Session& session, const Arguments& arguments) {
  operations::ActingTerms terms;
  terms.without_hooks = arguments.has("without-hooks");
  if (const auto file = arguments.value("answers")) terms.answers = operations::load_answers(*file);
  terms.may_ask = arguments.has("dry-run") || (!session.json() && !arguments.has("yes") && can_ask());
  return terms;
}

}  // namespace

operations::ChangeRequest change_request(const Session& session, const Arguments& arguments, const std::string& kind) {
  operations::ChangeRequest request;
  request.kind = kind;
  request.solve.recommended = !arguments.has("no-recommended");
  request.solve.drop_unneeded = arguments.has("unneeded");
  request.purge = arguments.has("purge");
  request.strict = arguments.has("strict");
  request.look_at_files = !arguments.has("no-files");
  request.weigh_strays = !session.quiet();
  request.configuration = config_terms(session, arguments);
  request.end = end_of(arguments);
  request.solve.allow_essential = allowed_essential(arguments);
  request.acting = acting_terms(session, arguments);
  return request;
}

operations::PlannedTerms planned_terms(const Arguments& arguments) {
  operations::PlannedTerms terms;
  terms.end = end_of(arguments);
  terms.release = arguments.values("release");
  terms.name_holds = arguments.has("yes");
  terms.allow_essential = allowed_essential(arguments);
  terms.acting.without_hooks = arguments.has("without-hooks");
  if (const auto file = arguments.value("answers")) terms.acting.answers = operations::load_answers(*file);
  return terms;
}

bool is_consent_possible(const Session& session, const Arguments& arguments) {
  return arguments.has("yes") || arguments.has("dry-run") || (!session.json() && can_ask());
}

void require_consent_possible(const Session& session, const Arguments& arguments) {
  if (is_consent_possible(session, arguments)) return;
  throw Error(ErrorCode::Declined, session.json() ? "--json never asks" : "there is no terminal to ask on", {},
              "add --yes to do it, or --dry-run to see the plan");
}

std::optional<Outcome> undone_where_services_failed(Session& session, const Outcome& outcome) {
  if (!outcome.some_service_failed() || !operations::are_failures_undone(session.root())) return std::nullopt;
  const auto failed =
      std::find_if(outcome.services.begin(), outcome.services.end(), [](const auto& one) { return !one.good; });
  session.progress().note(fmt::format("{} did not come up; the transaction is undone", failed->name));
  try {
    return operations::take_back_failed(session.changed(), outcome);
  } catch (const Error& problem) {
    session.progress().note(fmt::format("it could not be undone: {}", problem.what()));
    return std::nullopt;
  }
}

int exit_code_of(const Outcome& outcome, bool was_undone) {
  constexpr int kServiceFailed = 13;
  if (!outcome.some_service_failed()) return 0;
  return was_undone ? 1 : kServiceFailed;
}

namespace {

bool is_beginning_of(std::string_view given, std::string_view word) {
  return !given.empty() && word.starts_with(given);
}

}  // namespace

bool is_yes(const Session& session, std::string_view question) {
  return answer_to(session, question, {"yes", "no"}) == "yes";
}

std::string answer_to(const Session& session, std::string_view question, const std::vector<std::string>& answers) {
  std::string form = answers.front();
  for (std::size_t i = 1; i < answers.size(); ++i) form += (i + 1 == answers.size() ? " or " : ", ") + answers[i];
  for (;;) {
    const auto given = ask(session.screen(), question, form);
    if (!given) return "no";
    const std::string word = lower(*given);
    const auto fits = [&](const std::string& answer) { return is_beginning_of(word, answer); };
    const auto found = std::find_if(answers.begin(), answers.end(), fits);
    if (std::count_if(answers.begin(), answers.end(), fits) == 1) return *found;
    if (is_beginning_of(word, "quit")) return "no";
    session.screen().line(fmt::format("  Please answer {}.", form));
  }
}

void ask_consent(const Session& session, const Arguments& arguments) {
  require_consent_possible(session, arguments);
  if (arguments.has("yes")) return;
  session.screen().line();
  if (!is_yes(session, "Continue?")) throw Error(ErrorCode::Declined, "nothing was changed");
}

Consent ask_consent(const Session& session, const Arguments& arguments, const Proposal& proposal, bool may_fetch_only) {
  require_consent_possible(session, arguments);
  if (arguments.has("yes")) return Consent::Yes;
  const plan::Plan& plan = proposal.plan();
  std::vector<std::string> answers{"yes", "no"};
  if (is_long(plan)) answers.emplace_back("details");
  const bool changes_configs = std::any_of(plan.configs.begin(), plan.configs.end(),
                                           [](const plan::ConfigStep& step) { return step.changes_file(); });
  if (changes_configs) answers.emplace_back("diff");
  if (!proposal.may_follow().empty()) answers.emplace_back("follow");
  if (may_fetch_only && plan.download() > 0 && end_of(arguments) == End::Switch) answers.emplace_back("only download");
  session.screen().line();
  for (;;) {
    const std::string answer = answer_to(session, "Continue?", answers);
    if (answer == "yes") return Consent::Yes;
    if (answer == "only download") return Consent::OnlyDownload;
    if (answer == "follow") return Consent::Follow;
    if (answer == "no") throw Error(ErrorCode::Declined, "nothing was changed");
    session.screen().begin_page();
    if (answer == "details") print_plan(session, plan, PlanLines::All);
    if (answer == "diff") print_differences(session.screen(), proposal.config_differences());
    session.screen().end_page();
    session.screen().line();
  }
}

bool shown_and_agreed(const Session& session, const Arguments& arguments, const std::function<void()>& show) {
  const bool dry = arguments.has("dry-run");
  const bool silent = session.json() ? !dry : session.quiet() && arguments.has("yes");
  if (!silent) show();
  if (dry) return false;
  ask_consent(session, arguments);
  return true;
}

namespace {

/// The process ends soon: to give back what it held piece by piece would take a twentieth of an upgrade.
void leave_to_the_end(std::unique_ptr<Proposal> proposal) {
  [[maybe_unused]] static const Proposal* const held = proposal.release();
}

/// On a terminal: lets the administrator take one of the remedies by its number. Nothing if none was taken.
std::optional<std::size_t> choose_remedy(const Session& session, const Arguments& arguments,
                                         const std::vector<plan::Remedy>& remedies) {
  const bool may_ask = !session.json() && !arguments.has("yes") && !arguments.has("dry-run") && can_ask();
  if (remedies.empty() || !may_ask) return std::nullopt;
  session.screen().line();
  const bool single = remedies.size() == 1;
  const char* const question = single ? "Use this remedy?" : "Use one of them?";
  for (;;) {
    const auto given = ask(session.screen(), question, single ? "yes or no" : "its number, or no");
    if (!given || is_beginning_of(lower(*given), "no") || is_beginning_of(lower(*given), "quit")) return std::nullopt;
    const bool agreed = single && is_beginning_of(lower(*given), "yes");
    const auto number = agreed ? 1 : parse_number(*given);
    if (number && *number > 0 && *number <= remedies.size()) {
      session.screen().line();
      return *number - 1;
    }
    session.screen().line(single ? "  Please answer yes or no."
                                 : fmt::format("  Please answer with a number from 1 to {}, or no.", remedies.size()));
  }
}

/// Package files that nobody vouches for are agreed to on their own: on a terminal, or by an option that is not --yes.
bool is_accepted(const Session& session, const Arguments& arguments, const Proposal& proposal) {
  if (proposal.doubts().empty() || arguments.has("allow-unsigned")) return true;
  if (session.json() || arguments.has("yes") || !can_ask()) return false;
  session.screen().line();
  for (const operations::Doubt& doubt : proposal.doubts()) session.screen().line(printable(doubt.text()) + ".");
  if (is_yes(session, proposal.doubts().size() == 1 ? "Nobody vouches for it. Install it anyway?"
                                                    : "Nobody vouches for them. Install them anyway?"))
    return true;
  throw Error(ErrorCode::Declined, "nothing was changed");
}

struct Agreement {
  Consent consent = Consent::Yes;
  bool accepts_unsigned = false;
};

/// What is asked about is decided on between the plan and the consent; where there is nothing but questions, first.
std::unique_ptr<Proposal> agreed_to(Session& session, const Arguments& arguments, std::unique_ptr<Proposal> proposal,
                                    bool may_fetch_only, Agreement& agreement) {
  const bool of_packages = !proposal->questions_of_packages().empty();
  const bool questions = (of_packages || !proposal->questions().empty()) && !arguments.has("dry-run");
  const bool nothing_else = questions && proposal->plan().steps.empty();
  if (nothing_else) {
    require_consent_possible(session, arguments);
    proposal = proposal->decided(ask_about(session, proposal->questions()));
    if (proposal->does_nothing()) return proposal;
  }
  show(session, arguments, *proposal);
  if (arguments.has("dry-run")) {
    leave_to_the_end(std::move(proposal));
    return nullptr;
  }
  require_consent_possible(session, arguments);
  if (questions && !nothing_else) {
    operations::Decisions decisions;
    if (!proposal->questions().empty()) decisions = ask_about(session, proposal->questions());
    proposal = proposal->decided(std::move(decisions), ask_for(session, proposal->questions_of_packages()));
    print_configs(session.screen(), proposal->plan().configs);
    if (!proposal->plan().questions.empty()) session.screen().line();
    print_questions(session.screen(), proposal->plan().questions);
  }
  agreement.accepts_unsigned = is_accepted(session, arguments, *proposal);
  operations::require_accepted(proposal->doubts(), agreement.accepts_unsigned);
  agreement.consent = ask_consent(session, arguments, *proposal, may_fetch_only);
  return proposal;
}

/// What was agreed to, or only the fetching of it.
int perform(Session& session, const Arguments& arguments, std::unique_ptr<Proposal> proposal,
            const Agreement& agreement) {
  const os::InterruptGuard guard;
  operations::Terms terms;
  terms.reason = arguments.value("reason").value_or("");
  terms.stop_asked = [&guard] { return guard.asked(); };
  terms.accepts_unsigned = agreement.accepts_unsigned;
  terms.follows = agreement.consent == Consent::Follow;
  const Outcome outcome = proposal->perform(session.changed(), terms);
  const auto undone = undone_where_services_failed(session, outcome);
  show(session, proposal->plan(), outcome, undone ? &*undone : nullptr);
  leave_to_the_end(std::move(proposal));
  return exit_code_of(outcome, undone.has_value());
}

}  // namespace

int carry_out(Session& session, const Arguments& arguments, operations::ChangeRequest request) {
  const bool saves = arguments.has("save");
  if (saves) request.end = End::Switch;  // with --download-only it is saved first
  for (;;) {
    operations::ChangeRequest fetching = request;  // for those who answer that nothing else is to be done
    fetching.end = End::FetchOnly;
    auto proposed = operations::propose(session.root(), std::move(request));
    if (auto* const proposal = std::get_if<std::unique_ptr<Proposal>>(&proposed.result)) {
      if (arguments.has("verbose")) session.progress().note(proposed.measured);
      const auto fetch_only = [&] {
        auto again = operations::propose(session.root(), std::move(fetching));
        auto* const fetched = std::get_if<std::unique_ptr<Proposal>>(&again.result);
        HAMBREL_ASSERT(fetched != nullptr, "what was agreed to can be planned again");
        return perform(session, arguments, std::move(*fetched), {});
      };
      if (!saves) return carry_out(session, arguments, std::move(*proposal), false, fetch_only);
      const int code = save(session, arguments, std::move(*proposal));
      if (code != 0 || !arguments.has("download-only")) return code;
      ask_consent(session, arguments);
      return fetch_only();
    }
    const auto& refused = std::get<operations::Refused>(proposed.result);
    const auto remedies = show_refusal(session, refused);
    const auto taken = choose_remedy(session, arguments, remedies);
    if (!taken) return exit_code(ErrorCode::Refused);
    request = operations::take(session.root(), refused, remedies[*taken]);
  }
}

int carry_out(Session& session, const Arguments& arguments, std::unique_ptr<Proposal> proposal, bool agreed,
              const std::function<int()>& fetch_only) {
  if (arguments.has("save")) return save(session, arguments, std::move(proposal));
  if (const auto* const expected = session.expected())
    operations::require_same(*expected, operations::difference(*expected, proposal->plan()));
  Agreement agreement{Consent::Yes, arguments.has("allow-unsigned")};
  if (!proposal->does_nothing() && !agreed)
    proposal = agreed_to(session, arguments, std::move(proposal), fetch_only != nullptr, agreement);
  if (!proposal) return 0;
  if (agreement.consent == Consent::OnlyDownload) return fetch_only();
  if (!proposal->does_nothing()) return perform(session, arguments, std::move(proposal), agreement);
  show_nothing(session, *proposal);
  return 0;
}

}  // namespace hambrel::cli
