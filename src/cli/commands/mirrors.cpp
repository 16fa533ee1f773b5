#include "cli/commands/mirrors.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "cli/carry.h"
#include "cli/show/repository.h"
#include "report/figures.h"
#include "report/output.h"

namespace hambrel::cli {

namespace {

using operations::MirrorMeasure;

/// Which ones, as numbers from 1: by --best, by an answer, or, with --yes, all that are good. Nothing: none was chosen.
std::vector<std::size_t> choice(const Session& session, const Arguments& arguments, std::size_t good) {
  std::vector<std::size_t> all;
  for (std::size_t i = 1; i <= good; ++i) all.push_back(i);
  if (const auto best = arguments.number("best")) {
    if (*best == 0) throw Error(ErrorCode::Usage, "--best 0: must be at least 1", {}, "for example --best 3");
    all.resize(std::min<std::size_t>(all.size(), *best));
    return all;
  }
  if (arguments.has("yes")) return all;
  if (session.json() || !can_ask()) return {};
  session.screen().line();
  for (;;) {
    const std::string answer =
        ask(session.screen(), "Which ones, in order of preference?", "such as 1 3-5, or no").value_or("no");
    if (answer.empty() || std::string_view("no").starts_with(lower(answer))) return {};
    if (auto chosen = numbers_in(answer, good); chosen && !chosen->empty()) return *chosen;
    session.screen().line(fmt::format("  Numbers from 1 to {}, such as: 1 3-5", good));
  }
}

}  // namespace

std::optional<std::vector<std::size_t>> numbers_in(std::string_view text, std::size_t most) {
  std::vector<std::size_t> numbers;
  for (const std::string_view word : split(text, ' ')) {
    if (word.empty()) continue;
    const auto dash = word.find('-');
    const auto first = parse_number(word.substr(0, dash));
    const auto last = dash == std::string_view::npos ? first : parse_number(word.substr(dash + 1));
    if (!first || !last || *first == 0 || *last > most || *first > *last) return std::nullopt;
    for (std::size_t i = *first; i <= *last; ++i)
      if (std::find(numbers.begin(), numbers.end(), i) == numbers.end()) numbers.push_back(i);
  }
  return numbers;
}

int rank_mirrors(Session& session, const Arguments& arguments) {
  const std::string& name = arguments.words()[1];
  const auto measures = operations::compare_mirrors(session.root(), name);
  std::vector<std::string> good;
  Rows rows(session);
  for (const MirrorMeasure& one : measures) {
    if (one.is_good()) good.push_back(one.url);
    add(rows, one, good.size());
  }
  rows.print();
  if (!session.json())
    for (const MirrorMeasure& one : measures)
      if (!one.problem.empty())
        session.screen().note(printable(fmt::format("{}: {}", shown_url(one.url), one.problem)));
  if (const auto file = arguments.value("figure")) {
    using report::Form;
    const Form form = report::form_of(*file, {Form::Svg, Form::Png, Form::Csv});
    report::write_output(*file, report::figure_bytes(report::mirrors_figure(name, measures), form));
    if (!session.json()) session.screen().line(printable(*file) + ": written");
  }
  if (good.empty())
    throw Error(ErrorCode::Network, fmt::format("no mirror of {} is usable right now", name), {},
                "nothing was changed; try again later");
  const std::vector<std::size_t> chosen = choice(session, arguments, good.size());
  if (chosen.empty()) {
    if (!session.json() && !session.quiet() && !can_ask())
      session.screen().line(fmt::format("Nothing was changed. To use the best three: {}",
                                        session.copyable(fmt::format("hambrel repo rank {} --best 3", name))));
    return 0;
  }
  std::vector<std::string> used, spare;
  for (const std::size_t number : chosen) used.push_back(good[number - 1]);
  for (const MirrorMeasure& one : measures)
    if (std::find(used.begin(), used.end(), one.url) == used.end()) spare.push_back(one.url);
  operations::use_mirrors(session.root(), name, used, spare);
  if (!session.json() && !session.quiet())
    session.screen().line(fmt::format("{} uses {} from now on.", name,
                                      used.size() == 1 ? "this mirror: " + shown_url(used[0])
                                                       : count_text(used.size(), "mirror", "mirrors") +
                                                             " in this order, and shares downloads among them"));
  return 0;
}

}  // namespace hambrel::cli
