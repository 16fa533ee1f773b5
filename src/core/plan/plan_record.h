// A plan as it is kept: in the ledger, and with what is prepared. Undo, rollback and the ledger's own texts read it.
//
// It is a form of its own, made for being read again, and independent of what is shown: format 1 is canonical JSON with
// a list for each step, decision and notice, kinds by number. Before it the JSON that was made for display was kept,
// which is still read. Numbers of packages are of one universe and are not kept.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "plan/plan.h"

namespace hambrel::plan {

std::string record_of(const Plan& plan);
/// Throws Error{Untrusted} for what is no record. Of an empty text, and of what programs before format 1 wrote there
/// that is no plan: one that does nothing.
Plan plan_of(std::string_view record);
/// Only what was decided about configuration: most plans have none of it, and are told apart without being read.
std::vector<ConfigStep> decisions_of(std::string_view record);

}  // namespace hambrel::plan
