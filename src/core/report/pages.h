// Which pages there are: of a system, of its record, of one transaction, and of a plan that waits to be agreed to.
#pragma once

#include <string>
#include <vector>

#include "operations/ledger.h"
#include "report/facts.h"
#include "report/page.h"

namespace hambrel::report {

Page system_page(const Facts& facts);
/// Every transaction, with the timeline.
Page record_page(const Facts& facts);
Page transaction_page(const operations::LedgerDetail& detail, std::int64_t now, const Copyable& copyable);
/// `whence`: what is to be said of the plan: its file, its command, whether the root has changed since.
Page plan_page(const plan::Plan& plan, const std::vector<std::string>& whence, std::int64_t now);

}  // namespace hambrel::report
