// The one way from a request to its end: proposed, shown, decided on, agreed to, performed, told.
#pragma once

#include <memory>
#include <optional>

#include "cli/session.h"
#include "operations/change.h"

namespace hambrel::cli {

/// What every changing command does before it looks at anything: the options are checked, and where the plan can be
/// agreed to, the root is opened for changing. Else it is only looked at.
void begin(Session& session, const Arguments& arguments);
/// The part of it that fetches indexes, where that is asked for or due: for what has to be decided before.
void refresh_first(Session& session, const Arguments& arguments);
/// The rest of it.
void begin_refreshed(Session& session, const Arguments& arguments);

/// The last of it, for commands that read neither these options nor repositories.
void open_for(Session& session, const Arguments& arguments);

/// What the options say of every change.
operations::End end_of(const Arguments& arguments);
operations::ChangeRequest change_request(const Session& session, const Arguments& arguments, const std::string& kind);
operations::PlannedTerms planned_terms(const Arguments& arguments);
operations::ConfigTerms config_terms(const Session& session, const Arguments& arguments);

/// A file that was given, - for standard input: at most operations::kMostGivenBytes.
std::string text_given(const std::string& file);

/// From the request to the outcome, by way of a remedy where it is refused and one is taken. Returns the exit code.
int carry_out(Session& session, const Arguments& arguments, operations::ChangeRequest request);
/// From a proposal on. `agreed`: it was shown and agreed to before. `fetch_only`: where only fetching can be agreed to,
/// does that, and returns the exit code.
int carry_out(Session& session, const Arguments& arguments, std::unique_ptr<operations::Proposal> proposal,
              bool agreed = false, const std::function<int()>& fetch_only = nullptr);

/// Where a service did not come up and hambrel.toml has such changes undone: that is done. Nothing else.
std::optional<operations::Outcome> undone_where_services_failed(Session& session, const operations::Outcome& outcome);
int exit_code_of(const operations::Outcome& outcome, bool was_undone);

/// Was everything agreed to before, or is there somebody to ask? Where not, a plan is made by looking only.
bool is_consent_possible(const Session& session, const Arguments& arguments);
/// Refuses at once with Error{Declined} when a changing command could not ask and may not go on without asking.
void require_consent_possible(const Session& session, const Arguments& arguments);
/// Asks, unless --yes was given. Throws Error{Declined} for anything but a yes.
void ask_consent(const Session& session, const Arguments& arguments);
/// The same about a plan, of which every line can be seen first.
enum class Consent { Yes, OnlyDownload, Follow };
Consent ask_consent(const Session& session, const Arguments& arguments, const operations::Proposal& proposal,
                    bool may_fetch_only);
/// One of these, or its beginning; asks again for anything else. "no" at the end of the input.
std::string answer_to(const Session& session, std::string_view question, const std::vector<std::string>& answers);
/// Yes, or its beginning; asks again for anything that is neither yes nor no. No at the end of the input.
bool is_yes(const Session& session, std::string_view question);

/// What changes something that is no plan of packages: `show` shows it, where it is to be shown; then it is agreed to,
/// and `perform` does it. False where it was only shown, by --dry-run.
bool shown_and_agreed(const Session& session, const Arguments& arguments, const std::function<void()>& show);

}  // namespace hambrel::cli
