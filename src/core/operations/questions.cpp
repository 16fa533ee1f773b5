#include "operations/questions.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::operations {

using rehearsal::Party;
using From = plan::AskStep::From;

GivenAnswers load_answers(const std::string& path) {
  const auto host = os::open_file_system("/");
  GivenAnswers given;
  for (const auto& [package, keys] : settings::load_answers(*host, os::host_path(path), printable(path)))
    for (const auto& [key, answer] : keys) given[{package, key}] = {answer.text, answer.at};
  return given;
}

namespace {

/// The questions of a package with the actions that its programs are of.
class Answering {
 public:
  Answering(Root& root, txn::Planned& planned, const ActingTerms& terms)
      : root_(root), planned_(planned), terms_(terms) {
    if (root.state() != nullptr) kept_ = root.state()->answers();
  }

  void run(const std::string& package, const Actions& actions, bool is_new) {
    std::vector<std::string> environment;
    for (const Question& one : actions.questions)
      if (const auto answer = answer_to(package, one, is_new)) environment.push_back(one.variable() + "=" + *answer);
    for (auto* const list :
         {&planned_.runs.before, &planned_.runs.hooks, &planned_.runs.triggers, &planned_.runs.watching})
      for (rehearsal::Run& one : *list)
        if (one.shown.package == package)
          one.environment.insert(one.environment.end(), environment.begin(), environment.end());
  }

  void require_known(const std::string& package, const Actions& actions) const {
    for (const auto& answer : terms_.answers) {
      const auto& [whose, key] = answer.first;
      const auto asks = [&wanted = key](const Question& one) { return one.key == wanted; };
      if (whose != package || std::any_of(actions.questions.begin(), actions.questions.end(), asks)) continue;
      std::vector<std::string> keys;
      for (const Question& one : actions.questions) keys.push_back(one.key);
      throw Error(ErrorCode::Invalid, fmt::format("{} asks no question \"{}\"", package, printable(key)),
                  answer.second.at, keys.empty() ? "it asks nothing" : "it asks: " + join(keys, ", "));
    }
  }

 private:
  std::optional<std::string> answer_to(const std::string& package, const Question& question, bool is_new) {
    plan::AskStep step;
    step.package = package;
    step.key = question.key;
    step.text = question.text;
    step.kind = text_of(question.kind);
    step.choices = question.choices;
    step.usual = question.usual.value_or("");
    const std::string kept = kept_answer(package, question);
    std::optional<std::string> answer;
    if (const auto found = terms_.answers.find({package, question.key}); found != terms_.answers.end()) {
      answer = checked(package, question, found->second.text, found->second.at);
      step.from = found->second.at.empty() ? From::Asked : From::Given;
    } else if (const auto set = in_settings(package, question)) {
      answer = set;
      step.from = From::Settings;
    } else if (!kept.empty() && (!is_new || !terms_.may_ask)) {
      answer = kept;
      step.from = From::Kept;
    } else if (terms_.may_ask) {
      step.from = From::Open;
    } else if (question.usual) {
      answer = question.usual;
      step.from = From::Default;
    } else {
      refuse(package, question);
    }
    if (answer && !question.is_secret()) {
      step.answer = *answer;
      if (step.from != From::Kept) planned_.answers.push_back({package, question.key, *answer});
    }
    if (answer && question.is_secret() && !answer->empty()) planned_.secrets.push_back(*answer);
    planned_.plan.questions.push_back(std::move(step));
    return answer;
  }

  std::string kept_answer(const std::string& package, const Question& question) const {
    const auto of_package = kept_.find(package);
    if (of_package == kept_.end()) return {};
    const auto found = of_package->second.find(question.key);
    return found != of_package->second.end() && question.takes(found->second) ? found->second : std::string();
  }

  std::optional<std::string> in_settings(const std::string& package, const Question& question) const {
    const auto& all = root_.settings().answers;
    const auto of_package = all.find(package);
    if (of_package == all.end()) return std::nullopt;
    const auto found = of_package->second.find(question.key);
    if (found == of_package->second.end()) return std::nullopt;
    return checked(package, question, found->second.text, found->second.at);
  }

  static std::string checked(const std::string& package, const Question& question, const std::string& answer,
                             const std::string& at) {
    if (question.takes(answer)) return answer;
    throw Error(ErrorCode::Invalid,
                fmt::format("the answer to {} of {} must be {}", question.key, package, question.expected()), at,
                "nothing was changed");
  }

  [[noreturn]] static void refuse(const std::string& package, const Question& question) {
    throw Error(ErrorCode::Refused,
                fmt::format("{} asks, and nobody answers: {} ({})", package, printable(question.text),
                            question.is_secret() ? "a secret" : question.expected()),
                {},
                fmt::format("answer it with --answers FILE, which has the lines: [{}] and {} = \"...\"", package,
                            question.key));
  }

  Root& root_;
  txn::Planned& planned_;
  const ActingTerms& terms_;
  std::map<std::string, std::map<std::string, std::string>> kept_;
};

}  // namespace

void add_answers(Root& root, txn::Planned& planned, const std::vector<Party>& parties, const ActingTerms& terms) {
  planned.answers.clear();
  planned.secrets.clear();
  planned.plan.questions.clear();
  Answering answering(root, planned, terms);
  std::set<std::string> run;
  for (const auto* const list : {&planned.runs.before, &planned.runs.hooks, &planned.runs.triggers})
    for (const rehearsal::Run& one : *list) run.insert(one.shown.package);
  std::set<std::string> known;
  for (const Party& party : parties) {
    const SharedActions& actions = party.after.empty() ? party.was : party.is;
    answering.require_known(party.name, actions == nullptr ? Actions() : *actions);
    known.insert(party.name);
    if (actions == nullptr || actions->questions.empty() || !run.contains(party.name) || terms.without_hooks) continue;
    answering.run(party.name, *actions, party.before.empty());
  }
  if (root.state() == nullptr || terms.without_hooks) return;
  for (const state::StatePackage& one : root.state()->acting())
    if (run.contains(one.package.name) && !known.contains(one.package.name) && !one.package.actions->questions.empty())
      answering.run(one.package.name, *one.package.actions, false);
}

std::vector<PackageQuestion> open_questions(Root& root, const txn::Planned& planned) {
  std::vector<PackageQuestion> open;
  const auto kept =
      root.state() == nullptr ? std::map<std::string, std::map<std::string, std::string>>() : root.state()->answers();
  for (const plan::AskStep& step : planned.plan.questions) {
    if (step.from != From::Open) continue;
    PackageQuestion one;
    one.package = step.package;
    one.question.key = step.key;
    one.question.text = step.text;
    one.question.kind = question_kind_from(step.kind).value();
    one.question.choices = step.choices;
    one.offered = step.usual;
    if (const auto found = kept.find(step.package); found != kept.end())
      if (const auto answer = found->second.find(step.key); answer != found->second.end())
        if (one.question.takes(answer->second)) one.offered = answer->second;
    open.push_back(std::move(one));
  }
  return open;
}

}  // namespace hambrel::operations
