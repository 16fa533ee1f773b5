#include "cli/show/acting.h"

#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/terminal/table.h"

namespace hambrel::cli {

namespace {

void print_accounts(const Screen& screen, const std::vector<plan::AccountStep>& accounts) {
  screen.line("  System accounts:");
  Table table;
  for (const plan::AccountStep& one : accounts)
    table.row({{one.goes ? "remove" : "create", one.goes ? Style::Go : Style::Come},
               {one.name, Style::Name},
               {fmt::format("{} {}", one.group_only ? "group" : "user and group", one.id)},
               {printable(one.text)},
               {one.package.empty() ? "" : "for " + one.package, Style::Faint}});
  table.print(screen);
}

void print_follows(const Screen& screen, const std::vector<plan::FollowStep>& follows) {
  screen.line("  Channels:");
  Table table;
  for (const plan::FollowStep& one : follows)
    table.row({{"follow", Style::Change}, {one.name, Style::Name}, {printable(one.text())}});
  table.print(screen);
}

void print_links(const Screen& screen, const std::vector<plan::LinkStep>& links) {
  screen.line("  Links to candidates:");
  Table table;
  for (const plan::LinkStep& one : links) {
    std::string why = one.picked ? "picked by you" : "has the highest rank";
    if (one.after.empty()) why = "nothing can serve it any more";
    if (!one.lost.empty()) why += fmt::format("; /{}, which you had picked, is gone", printable(one.lost));
    table.row({{one.after.empty() ? "remove" : "link", one.after.empty() ? Style::Go : Style::Change},
               {"/" + printable(one.path), Style::Name},
               {one.after.empty() ? "" : "-> /" + printable(one.after)},
               {one.package, Style::Faint},
               {why}});
  }
  table.print(screen);
}

void print_runs(const Screen& screen, const std::vector<plan::Run>& runs) {
  if (runs.front().left_out)
    screen.line("  Does not run now; `hambrel repair` runs it later:");
  else
    screen.line(fmt::format("  Runs first, on a preview of the system{}:", runs.size() > 1 ? ", in this order" : ""));
  for (const plan::Run& one : runs) {
    constexpr std::size_t kIndent = 11;  // behind the kind
    screen.line(fmt::format("  {:<7}  {}  {}", one.kind == plan::Run::Kind::Trigger ? "trigger" : "hook",
                            screen.paint(Style::Name, one.package), printable(one.program)));
    screen.paragraph(printable(one.why_text()), kIndent);
  }
}

void print_services(const Screen& screen, const std::vector<plan::ServiceStep>& services) {
  screen.line("  Services:");
  Table table;
  for (const plan::ServiceStep& one : services) {
    const bool goes = one.kind == plan::ServiceStep::Kind::Stop || one.kind == plan::ServiceStep::Kind::Disable;
    table.row({{plan::text_of(one.kind), goes ? Style::Go : Style::Change},
               {one.name, Style::Name},
               {printable(one.text())}});
  }
  table.print(screen);
}

}  // namespace

void print_questions(const Screen& screen, const std::vector<plan::AskStep>& questions) {
  if (questions.empty()) return;
  screen.line("  Questions of packages:");
  Table table;
  for (const plan::AskStep& one : questions) {
    const bool open = one.from == plan::AskStep::From::Open;
    std::string answer = one.is_secret() ? "(a secret)" : printable(one.answer);
    if (open) answer = "-";
    table.row({{one.package, Style::Name},
               {one.key},
               {answer, open ? Style::Faint : Style::Strong},
               {one.from_text(), Style::Faint},
               {printable(one.text)}});
  }
  table.print(screen);
}

void print_acting(const Screen& screen, const plan::Plan& plan) {
  if (!plan.questions.empty()) {
    print_questions(screen, plan.questions);
    screen.line();
  }
  if (!plan.follows.empty()) {
    print_follows(screen, plan.follows);
    screen.line();
  }
  if (!plan.links.empty()) {
    print_links(screen, plan.links);
    screen.line();
  }
  if (!plan.accounts.empty()) {
    print_accounts(screen, plan.accounts);
    screen.line();
  }
  if (!plan.runs.empty()) {
    print_runs(screen, plan.runs);
    screen.line();
  }
  if (!plan.services.empty()) {
    print_services(screen, plan.services);
    screen.line();
  }
}

Json to_json(const std::vector<plan::FollowStep>& all) {
  Json follows = Json::array();
  const auto channel = [](const std::string& text) { return text.empty() ? Json() : Json(text); };
  for (const plan::FollowStep& one : all)
    follows.push_back({{"name", one.name}, {"before", channel(one.before)}, {"after", channel(one.after)}});
  return follows;
}

Json to_json(const std::vector<plan::LinkStep>& all) {
  Json links = Json::array();
  const auto path = [](const std::string& text) { return text.empty() ? Json() : Json("/" + text); };
  for (const plan::LinkStep& one : all)
    links.push_back({{"path", path(one.path)},
                     {"file", path(one.after)},
                     {"package", one.package},
                     {"picked", one.picked},
                     {"lost", path(one.lost)}});
  return links;
}

Json to_json(const std::vector<plan::AccountStep>& all) {
  Json accounts = Json::array();
  for (const plan::AccountStep& one : all)
    accounts.push_back({{"name", one.name},
                        {"kind", one.group_only ? "group" : "user"},
                        {"id", one.id},
                        {"text", one.text},
                        {"package", one.package},
                        {"goes", one.goes}});
  return accounts;
}

Json to_json(const std::vector<plan::AskStep>& all) {
  constexpr const char* kFrom[] = {"open", "asked", "given", "settings", "kept", "default"};
  Json questions = Json::array();
  for (const plan::AskStep& one : all) {
    const bool told = one.from != plan::AskStep::From::Open && !one.is_secret();
    questions.push_back({{"package", one.package},
                         {"key", one.key},
                         {"text", one.text},
                         {"kind", one.kind},
                         {"choices", one.choices},
                         {"from", kFrom[static_cast<std::size_t>(one.from)]},
                         {"answer", told ? Json(one.answer) : Json()}});
  }
  return questions;
}

Json to_json(const std::vector<plan::ServiceStep>& all) {
  Json services = Json::array();
  for (const plan::ServiceStep& one : all)
    services.push_back({{"service", one.name},
                        {"package", one.package},
                        {"action", plan::text_of(one.kind)},
                        {"stopped_before", one.stopped_before},
                        {"check", one.check},
                        {"text", one.text()}});
  return services;
}

Json to_json(const std::vector<plan::Run>& all) {
  Json runs = Json::array();
  for (const plan::Run& one : all) {
    Json paths = Json::array();
    for (const std::string& path : one.writes) paths.push_back("/" + path);
    runs.push_back({{"kind", one.kind == plan::Run::Kind::Trigger ? "trigger" : "hook"},
                    {"package", one.package},
                    {"program", one.program},
                    {"occasion", one.occasion},
                    {"before", one.before},
                    {"new", one.is_new},
                    {"left_out", one.left_out},
                    {"writes", std::move(paths)},
                    {"text", one.why_text()}});
  }
  return runs;
}

}  // namespace hambrel::cli
