// The one way from a proposal to its end: shown, decided on, agreed to, performed, told.
#pragma once

#include <memory>

#include "cli/session.h"
#include "operations/change.h"

namespace hambrel::cli {

/// What every changing command does before it looks at anything: the options are checked, and where the plan can be
/// agreed to, the root is opened for changing. Else it is only looked at.
void begin(Session& session, const Arguments& arguments);

/// The last of it, for commands that read neither these options nor repositories.
void open_for(Session& session, const Arguments& arguments);

/// What the options say of every change.
operations::End end_of(const Arguments& arguments);
operations::ChangeRequest change_request(Session& session, const Arguments& arguments, const std::string& kind);
operations::PlannedTerms planned_terms(const Arguments& arguments);
operations::ConfigTerms config_terms(const Session& session, const Arguments& arguments);

/// From the request to the outcome, by way of a remedy where it is refused and one is taken. Returns the exit code.
int carry_out(Session& session, const Arguments& arguments, operations::ChangeRequest request);
/// From a proposal on. `agreed`: it was shown and agreed to before.
int carry_out(Session& session, const Arguments& arguments, std::unique_ptr<operations::Proposal> proposal,
              bool agreed = false);
/// The number of a transaction; throws Error{Usage} for anything else.
state::TxnId parse_id(const std::string& text);

/// What is said where nothing is to be done.
int show_nothing(const Session& session, const plan::Plan& plan);

}  // namespace hambrel::cli
