#include "cli/terminal/question_dialogue.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/terminal/secret.h"

namespace hambrel::cli {

using operations::PackageQuestion;

namespace {

std::string form_of(const PackageQuestion& one) {
  std::string form = one.question.expected();
  if (one.question.kind == Question::Kind::YesNo) form = "yes or no";
  if (!one.offered.empty()) form += fmt::format("; Enter: {}", printable(one.offered));
  return form;
}

/// A beginning that only one of the choices has stands for it.
std::string completed(const Question& question, const std::string& given) {
  std::vector<std::string> choices = question.choices;
  if (question.kind == Question::Kind::YesNo) choices = {"yes", "no"};
  const auto fits = [&](const std::string& one) { return one.starts_with(given); };
  if (given.empty() || std::count_if(choices.begin(), choices.end(), fits) != 1) return given;
  return *std::find_if(choices.begin(), choices.end(), fits);
}

std::string answer_to(Session& session, const PackageQuestion& one) {
  const Screen& screen = session.screen();
  for (;;) {
    std::string answer;
    if (one.question.is_secret()) {
      answer = ask_secret(screen, printable(one.question.text) + "  (it is not shown and not kept)");
    } else {
      const auto given = ask(screen, printable(one.question.text), form_of(one));
      if (!given) throw Error(ErrorCode::Declined, "nothing was changed");
      answer = given->empty() && !one.offered.empty() ? one.offered : completed(one.question, *given);
    }
    if (one.question.takes(answer) && !(answer.empty() && one.question.is_secret())) return answer;
    screen.line(fmt::format("  Please answer with {}.", one.question.expected()));
  }
}

}  // namespace

operations::GivenAnswers ask_for(Session& session, const std::vector<PackageQuestion>& open) {
  operations::GivenAnswers answers;
  if (open.empty()) return answers;
  const Screen& screen = session.screen();
  screen.line();
  screen.line(screen.paint(Style::Strong, "Questions:") +
              fmt::format(" {}. Nothing has been changed yet, and nothing will be asked later.",
                          count_text(open.size(), "answer is needed", "answers are needed")));
  std::size_t number = 0;
  for (const PackageQuestion& one : open) {
    screen.line();
    screen.line(fmt::format("{}  {}  {}", screen.paint(Style::Strong, fmt::format("{} of {}", ++number, open.size())),
                            screen.paint(Style::Name, one.package), screen.paint(Style::Faint, one.question.key)));
    answers[{one.package, one.question.key}] = {answer_to(session, one), ""};
  }
  return answers;
}

}  // namespace hambrel::cli
