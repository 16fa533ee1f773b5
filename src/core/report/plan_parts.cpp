#include "report/plan_parts.h"

#include <fmt/format.h>

#include "base/amounts.h"
#include "base/text.h"
#include "report/relations.h"

namespace hambrel::report {

namespace {

using Kind = Cell::Kind;

PageTable package_table(const plan::Plan& plan) {
  PageTable table;
  table.columns = {{"step"},   {"package"}, {"before"},        {"after"},
                   {"reason"}, {"from"},    {"fetches", true}, {"disk", true}};
  for (const plan::Step& one : plan.steps) {
    Kind kind = Kind::Plain;
    if (one.action == plan::Action::Remove) kind = Kind::Look;
    if (one.action == plan::Action::Install) kind = Kind::Good;
    table.rows.push_back({{std::string(plan::text_of(one.action)), kind},
                          {one.name, Kind::Name},
                          {one.before},
                          {one.after},
                          {one.why.text()},
                          {one.origin, Kind::Faint},
                          {one.download == 0 ? "" : size_text(one.download), Kind::Number},
                          {one.size_change == 0 ? "" : change_text(one.size_change), Kind::Number}});
  }
  return table;
}

void add_section(std::vector<Section>& sections, const char* id, const char* title, std::vector<Column> columns,
                 std::vector<std::vector<Cell>> rows) {
  if (rows.empty()) return;
  Section section{id, title};
  section.tables.push_back({"", std::move(columns), std::move(rows), ""});
  sections.push_back(std::move(section));
}

std::vector<std::vector<Cell>> program_rows(const plan::Plan& plan) {
  std::vector<std::vector<Cell>> rows;
  for (const plan::Run& one : plan.runs) {
    const char* const kind = one.kind == plan::Run::Kind::Hook ? "hook" : "trigger";
    rows.push_back(
        {{one.left_out ? "is due" : kind}, {one.package, Kind::Name}, {one.program, Kind::Code}, {one.why_text()}});
  }
  return rows;
}

std::vector<std::vector<Cell>> remark_rows(const plan::Plan& plan) {
  std::vector<std::vector<Cell>> rows;
  for (const plan::Notice& one : plan.notices) rows.push_back({{one.text()}});
  for (const plan::HeldBack& one : plan.held_back)
    rows.push_back({{fmt::format("{} {} is held back at {}{}", one.name, one.offered,
                                 one.stays.empty() ? "nothing" : one.stays, one.why.empty() ? "" : ": " + one.why)}});
  if (!plan.unneeded.empty()) rows.push_back({{"nothing needs afterwards: " + plan::some_of(plan.unneeded)}});
  return rows;
}

void add_beside_packages(const plan::Plan& plan, std::vector<Section>& sections) {
  std::vector<std::vector<Cell>> configs, services, questions, links, accounts, follows;
  for (const plan::ConfigStep& one : plan.configs)
    configs.push_back(
        {{std::string(plan::text_of(one.action))}, {"/" + one.path, Kind::Code}, {one.package}, {one.text()}});
  for (const plan::ServiceStep& one : plan.services)
    services.push_back({{std::string(plan::text_of(one.kind))}, {one.name, Kind::Name}, {one.package}, {one.text()}});
  for (const plan::AskStep& one : plan.questions)
    questions.push_back({{one.package, Kind::Name},
                         {one.key},
                         {one.text},
                         {one.is_secret() ? "a secret" : one.answer},
                         {one.from_text(), Kind::Faint}});
  for (const plan::LinkStep& one : plan.links)
    links.push_back({{"/" + one.path, Kind::Code},
                     {one.before.empty() ? "" : "/" + one.before, Kind::Code},
                     {one.after.empty() ? "" : "/" + one.after, Kind::Code},
                     {one.package}});
  for (const plan::AccountStep& one : plan.accounts)
    accounts.push_back({{one.goes ? "drop" : "make"},
                        {one.name, Kind::Name},
                        {one.group_only ? "group" : "user"},
                        {std::to_string(one.id), Kind::Number},
                        {one.package},
                        {one.text}});
  for (const plan::FollowStep& one : plan.follows) follows.push_back({{one.name, Kind::Name}, {one.text()}});
  add_section(sections, "configuration", "Configuration", {{"choice"}, {"file"}, {"package"}, {"what happens"}},
              std::move(configs));
  add_section(sections, "programs", "Programs of packages, rehearsed before the switch",
              {{"kind"}, {"package"}, {"program"}, {"when and what it may write"}}, program_rows(plan));
  add_section(sections, "services", "Services", {{"step"}, {"service"}, {"package"}, {"when"}}, std::move(services));
  add_section(sections, "questions", "Questions of packages",
              {{"package"}, {"question"}, {"text"}, {"answer"}, {"decided by"}}, std::move(questions));
  add_section(sections, "candidates", "Links to candidates", {{"path"}, {"before"}, {"after"}, {"package"}},
              std::move(links));
  add_section(sections, "accounts", "Accounts", {{"step"}, {"account"}, {"kind"}, {"id", true}, {"package"}, {"for"}},
              std::move(accounts));
  add_section(sections, "channels", "Channels", {{"package"}, {"follows"}}, std::move(follows));
  add_section(sections, "remarks", "Worth knowing", {{"remark"}}, remark_rows(plan));
}

}  // namespace

std::vector<Tile> tiles_of(const plan::Plan& plan) {
  using plan::Action;
  const auto count = [&](Action action) { return std::to_string(plan.count(action)); };
  return {{"install", count(Action::Install), "", plan.count(Action::Install) > 0 ? Mood::Good : Mood::Plain},
          {"upgrade", count(Action::Upgrade), "", plan.count(Action::Upgrade) > 0 ? Mood::Good : Mood::Plain},
          {"downgrade", count(Action::Downgrade), "", plan.count(Action::Downgrade) > 0 ? Mood::Look : Mood::Plain},
          {"remove", count(Action::Remove), "", plan.count(Action::Remove) > 0 ? Mood::Look : Mood::Plain},
          {"download", size_text(plan.download())},
          {"disk use", change_text(plan.size_change())}};
}

std::vector<Section> sections_of(const plan::Plan& plan) {
  std::vector<Section> sections;
  if (!plan.steps.empty()) {
    Section packages{"packages", "Packages"};
    const Graph graph = graph_of(plan);
    if (!graph.edges.empty()) {
      const Graph clear = made_clear(graph);
      packages.figures.push_back({"plan", clear.title,
                                  "What changes, and why: each arrow leads from a reason to what it brings about.",
                                  draw(clear), table_of(graph)});
    }
    packages.tables.push_back(package_table(plan));
    sections.push_back(std::move(packages));
  }
  add_beside_packages(plan, sections);
  return sections;
}

}  // namespace hambrel::report
