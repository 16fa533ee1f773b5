// ledger.
#include "operations/ledger.h"

#include <fmt/format.h>

#include "base/amounts.h"
#include "base/json.h"
#include "base/text.h"
#include "cli/commands/output.h"
#include "cli/show/ledger.h"
#include "os/host.h"
#include "report/figures.h"
#include "report/pages.h"

namespace hambrel::cli {

namespace {

std::optional<std::int64_t> date(const Arguments& arguments, const std::string& option) {
  const auto given = arguments.value(option);
  if (!given) return std::nullopt;
  const auto parsed = parse_moment(*given, os::now());
  if (!parsed)
    throw Error(ErrorCode::Usage, fmt::format("--{} {}: must be a date or an age", option, printable(*given)), {},
                fmt::format("for example --{} 2030-01-31, today, yesterday, 2h or 3d", option));
  return parsed;
}

operations::LedgerFilter filter_of(const Arguments& arguments) {
  operations::LedgerFilter filter;
  filter.package = arguments.value("package").value_or("");
  filter.kind = arguments.value("kind").value_or("");
  filter.user = arguments.value("user").value_or("");
  filter.since = date(arguments, "since").value_or(INT64_MIN);
  filter.until = date(arguments, "until").value_or(INT64_MAX);
  return filter;
}

std::uint64_t count_from(const std::string& text, const std::string& what) {
  const auto count = parse_number(text);
  if (!count || *count == 0)
    throw Error(ErrorCode::Usage, fmt::format("{}: must be 1 or more", what), {},
                "`hambrel help ledger` shows examples");
  return *count;
}

}  // namespace

namespace {

/// The record, or one transaction of it, as a page.
int write_record(Session& session, const Arguments& arguments) {
  using report::Form;
  const auto& words = arguments.words();
  const bool is_one = words.size() == 2 && words[0] == "show";
  if (!words.empty() && !is_one)
    throw Error(ErrorCode::Usage, "-o writes the whole record, or one transaction", {},
                "use `hambrel ledger -o FILE` or `hambrel ledger show N -o FILE`");
  const std::string file = output_file(arguments);
  const Form form = report::form_of(file, {Form::Html, Form::Svg, Form::Png, Form::Csv});
  operations::Root& root = session.root();
  if (is_one) {
    if (form != Form::Html)
      throw Error(ErrorCode::Usage, fmt::format("{}: one transaction is written as .html", printable(file)), {},
                  "`hambrel ledger -o timeline.svg` draws all of them");
    const auto detail = operations::ledger_detail(root, operations::transaction_named(root, words[1], false));
    const report::Page page = report::transaction_page(detail, os::source_date_epoch(os::now()), copyable_for(session));
    report::write_output(file, report::html(page));
  } else {
    const report::Facts facts = report::facts_of(root, copyable_for(session));
    report::write_output(file, form == Form::Html ? report::html(report::record_page(facts))
                                                  : report::figure_bytes(report::timeline_figure(facts), form));
  }
  session.say({{"file", file}}, fmt::format("{}: written", printable(file)));
  return 0;
}

}  // namespace

int run_ledger(Session& session, const Arguments& arguments) {
  const auto& words = arguments.words();
  operations::Root& root = session.root();
  if (arguments.has("utc")) os::use_utc();
  if (arguments.has("output")) return write_record(session, arguments);
  if (words.empty()) {
    const std::uint64_t most = count_from(arguments.value("most").value_or("20"), "--most");
    const auto lines = operations::ledger(root, filter_of(arguments), most);
    show(session, lines, operations::prepared(root), operations::is_ledger_empty(root));
  } else if (words[0] == "show" && words.size() == 2) {
    show(session, operations::ledger_detail(root, operations::transaction_named(root, words[1], false)));
  } else if (words[0] == "packages" && words.size() <= 2) {
    const std::uint64_t most = words.size() == 2 ? count_from(words[1], printable(words[1])) : 20;
    show(session, operations::changed_packages(root, filter_of(arguments), most));
  } else if (words[0] == "export" && words.size() == 1) {
    operations::export_ledger(root, [&](std::string_view line) { session.screen().line(line); });
  } else {
    throw Error(ErrorCode::Usage, fmt::format("there is no `hambrel ledger {}`", printable(join(words, " "))), {},
                "use `hambrel ledger`, `ledger show N`, `ledger packages [COUNT]` and `ledger export`");
  }
  return 0;
}

}  // namespace hambrel::cli
