// report: a page about the system, or about a plan, for people who look.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/commands/output.h"
#include "operations/saved_plan.h"
#include "os/host.h"
#include "report/facts.h"
#include "report/figures.h"
#include "report/pages.h"

namespace hambrel::cli {

namespace {

report::Page saved_plan_page(Session& session, const std::string& given, std::vector<report::Figure>& figures) {
  const operations::SavedPlan saved = operations::load_plan(given);
  const report::Copyable copyable = copyable_for(session);
  const std::string file = "/" + os::host_path(given);
  std::vector<std::string> whence{copyable(fmt::format("hambrel {}", join(saved.command, " "))),
                                  fmt::format("Saved {} in {}; `{}` carries it out.", saved.made, file,
                                              copyable("hambrel apply " + shell_quoted(file)))};
  const std::string moved = operations::moved_since(session.root(), saved);
  whence.push_back(moved.empty() ? "The system is as it was when the plan was made."
                                 : moved + ": it has to be made anew.");
  report::Page page = report::plan_page(saved.plan, whence, os::source_date_epoch(os::now()));
  for (const report::Section& section : page.sections)
    for (const report::Figure& one : section.figures) figures.push_back(one);
  return page;
}

void write_page(const Session& session, const Arguments& arguments, const report::Page& page) {
  const auto file = arguments.value("output");
  std::string bytes;
  if (arguments.has("mail")) {
    bytes = report::mail(page, os::source_date_epoch(os::now()), os::host_name());
    if (!file) {
      // programs that send mail take the line ends of the system
      std::erase(bytes, '\r');
      session.screen().raw(bytes);
      return;
    }
  } else {
    report::form_of(*file, {report::Form::Html});
    bytes = report::html(page);
  }
  report::write_output(*file, bytes);
  session.say({{"file", *file}, {"bytes", bytes.size()}},
              fmt::format("{}: {}", printable(*file), size_text(bytes.size())));
}

}  // namespace

int run_report(Session& session, const Arguments& arguments) {
  const bool writes_page = arguments.has("output") || arguments.has("mail");
  const auto figures_in = arguments.value("figures");
  if (!writes_page && !figures_in && !session.json())
    throw Error(ErrorCode::Usage, "where to write it is not said", {},
                "`hambrel report -o report.html`, or --figures DIR, --mail or --json");
  if (arguments.has("output") && !arguments.has("mail"))
    report::form_of(*arguments.value("output"), {report::Form::Html});
  std::vector<report::Figure> figures;
  report::Page page;
  if (const auto plan = arguments.value("plan")) {
    if (!writes_page && !figures_in)
      throw Error(ErrorCode::Usage, "where to write it is not said", {}, "name a file with -o FILE");
    page = saved_plan_page(session, *plan, figures);
  } else {
    const report::Facts facts = report::facts_of(session.root(), copyable_for(session));
    if (session.json() && !writes_page && !figures_in) {
      session.document(report::to_json(facts));
      return 0;
    }
    if (writes_page) page = report::system_page(facts);
    if (figures_in) figures = report::figures_of(facts);
  }
  if (writes_page) write_page(session, arguments, page);
  if (!figures_in) return 0;
  for (const report::Figure& one : figures) {
    report::write_figure(*figures_in, one);
    session.say({{"figure", one.name}, {"directory", *figures_in}, {"rows", one.data.rows.size()}},
                fmt::format("{}/{}.svg, .png, .csv: {}", printable(*figures_in), one.name, printable(one.title)));
  }
  if (figures.empty()) session.say({{"figures", 0}}, "There is nothing to draw yet.");
  return 0;
}

}  // namespace hambrel::cli
