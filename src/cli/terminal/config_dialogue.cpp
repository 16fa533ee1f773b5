#include "cli/terminal/config_dialogue.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/show/configuration.h"
#include "cli/terminal/table.h"
#include "os/editor.h"

namespace hambrel::cli {

using operations::ConfigQuestion;
using plan::ConfigAction;

namespace {

constexpr std::size_t kMostLines = 30;  // of a diff that is shown unasked

std::string lines_text(const std::string& before, const std::string& after) {
  const Extent extent = extent_of(diff(before, after));
  return count_text(std::max(extent.gone, extent.come), "line", "lines");
}

/// What stands in front of the choices: who changed how much, and what the first choice would do.
void introduce(const Screen& screen, const ConfigQuestion& question) {
  const auto& [base, mine, theirs] = question.texts;
  const auto& merged = question.merged;
  const auto say = [&](const std::string& text) {
    screen.raw(wrapped(text, 2, std::min<std::size_t>(terminal_width(), 100)));
  };
  if (!mine && !theirs) return say("It is not text, so the two versions cannot be compared.");
  if (!mine) return say("Your file is missing or not text, so the two cannot be compared.");
  if (!theirs) return say("The package's version is not text, so it cannot be shown.");
  if (merged && merged->clean) {
    say(
        fmt::format("You changed {}, the new version {}; the changes do not overlap. The merge changes "
                    "your file as follows:",
                    lines_text(*base, *mine), lines_text(*base, *theirs)));
    return print_diff(screen, diff(*mine, merged->text), kMostLines);
  }
  if (merged)
    say(fmt::format("You changed {}, the new version {}, and some of them overlap. From your version to the new one:",
                    lines_text(*base, *mine), lines_text(*base, *theirs)));
  else if (question.news)
    say("The version both are based on is not known, so they cannot be merged. From your version to the new one:");
  else
    say("No new version is waiting. From your version to the package's:");
  print_diff(screen, diff(*mine, *theirs), kMostLines);
}

void show_changes(const Screen& screen, const ConfigQuestion& question, const std::string& which) {
  const auto& [base, mine, theirs] = question.texts;
  const auto& from = which == "diff" ? mine : base;
  const auto& to = which == "mine" ? mine : theirs;
  if (!from || !to) return screen.line("  That cannot be shown: one of the two is not known or not text.");
  print_diff(screen, diff(*from, *to), 0);
}

/// Asking about one file.
class Dialogue {
 public:
  Dialogue(Session& session, const std::vector<ConfigQuestion>& open, const ConfigQuestion& question,
           operations::Decisions& answers, std::size_t clean_left)
      : session_(session),
        screen_(session.screen()),
        open_(open),
        question_(question),
        answers_(answers),
        clean_left_(clean_left),
        clean_(question.merges_cleanly()) {}

  void run(const std::string& place) {
    screen_.line();
    screen_.line(fmt::format("{}  {}  {}", screen_.paint(Style::Strong, place),
                             screen_.paint(Style::Name, "/" + printable(question_.path)),
                             screen_.paint(Style::Faint, question_.package)));
    introduce(screen_, question_);
    screen_.line();
    print_choices();
    screen_.line();
    for (;;) {
      const auto given = ask(screen_, "What should happen to this file?", words());
      if (!given) throw Error(ErrorCode::Declined, "nothing was changed");
      const std::string answer = given->empty() ? otherwise() : lower(*given);
      if (shows(answer)) continue;
      if (decides(answer)) return;
      if (answer != "edit" || !has_text())
        screen_.line(fmt::format("  \"{}\" is not one of the choices.", printable(*given)));
    }
  }

 private:
  std::string otherwise() const { return clean_ ? "merge" : "wait"; }
  /// What an edit begins with.
  const char* edited() const {
    if (clean_) return "the merge";
    return question_.merged ? "both versions, with conflicts between markers" : "yours";
  }
  bool has_text() const { return question_.texts.mine.has_value(); }

  void print_choices() const {
    const auto& merged = question_.merged;
    Table table;
    const auto offer = [&](const char* word, const std::string& meaning) {
      table.row({{word, Style::Strong}, {meaning}});
    };
    if (clean_) offer("merge", "combine both, as shown");
    if (clean_ && clean_left_ > 0)
      offer("all", fmt::format("this merge, and those of {} that merge cleanly, too",
                               count_text(clean_left_, "other file", "other files")));
    if (question_.news) offer("keep", "keep your file as it is; the new version is not used");
    offer("take", "the package's version; yours is moved to the attic");
    if (has_text()) offer("edit", fmt::format("in {}, starting from {}", printable(os::editor()), edited()));
    offer("wait", question_.news
                      ? fmt::format("keep yours for now; the new one is kept aside until you settle it: `{}`",
                                    session_.copyable("hambrel configs settle /" + question_.path))
                      : "leave it as it is");
    if (merged)
      offer("show",
            "`show mine`, `show new`: what each side changed; `show diff`: from your version to the new one; "
            "`show merge`");
    table.print(screen_);
  }

  std::string words() const {
    return fmt::format("{}{}{}take, {}wait{}; Enter: {}", clean_ ? "merge, " : "",
                       clean_ && clean_left_ > 0 ? "all, " : "", question_.news ? "keep, " : "",
                       has_text() ? "edit, " : "", question_.merged ? " or show" : "", otherwise());
  }

  /// True where something was shown: then it is asked again.
  bool shows(const std::string& answer) const {
    if (!question_.merged) return false;
    if (answer == "show merge") {
      print_diff(screen_, diff(*question_.texts.mine, question_.merged->text), 0);
      return true;
    }
    if (answer != "show mine" && answer != "show new" && answer != "show diff" && answer != "show") return false;
    show_changes(screen_, question_, answer == "show" ? "diff" : answer.substr(5));
    return true;
  }

  bool decides(const std::string& answer) {
    if (answer == "edit" && has_text()) return edited();
    if (clean_ && (answer == "merge" || answer == "all")) {
      for (const ConfigQuestion& one : open_) {
        const bool meant = one.path == question_.path || answer == "all";
        if (meant && !answers_.contains(one.path) && one.merges_cleanly())
          answers_[one.path] = {ConfigAction::Merge, one.merged->text};
      }
      return true;
    }
    if (answer == "keep" && question_.news) return decided(ConfigAction::Keep);
    if (answer == "take") return decided(ConfigAction::Take);
    return answer == "wait" && decided(ConfigAction::Wait);
  }

  bool decided(ConfigAction action) {
    answers_[question_.path] = {action, {}};
    return true;
  }

  bool edited() {
    const std::string& mine = *question_.texts.mine;
    const std::string text =
        os::edit_text(question_.merged ? question_.merged->text : mine, std::string(os::name_of(question_.path)));
    if (has_markers(text)) {
      screen_.line("  It still contains conflict markers. Edit it again, or choose something else.");
      return false;
    }
    print_diff(screen_, diff(mine, text), kMostLines);
    answers_[question_.path] = {ConfigAction::Edit, text};
    return true;
  }

  const Session& session_;
  const Screen& screen_;
  const std::vector<ConfigQuestion>& open_;
  const ConfigQuestion& question_;
  operations::Decisions& answers_;
  const std::size_t clean_left_;
  const bool clean_;
};

}  // namespace

operations::Decisions ask_about(Session& session, const std::vector<ConfigQuestion>& open) {
  const Screen& screen = session.screen();
  operations::Decisions answers;
  screen.line();
  screen.line(screen.paint(Style::Strong, "Configuration:") +
              fmt::format(" {} a decision. Nothing has been changed yet, and nothing will be asked later.",
                          count_text(open.size(), "file needs", "files need")));
  std::size_t number = 0, clean_left = 0;
  for (const ConfigQuestion& one : open)
    if (one.merges_cleanly()) ++clean_left;
  for (const ConfigQuestion& one : open) {
    ++number;
    if (one.merges_cleanly()) --clean_left;
    if (answers.contains(one.path)) continue;  // "all"
    Dialogue(session, open, one, answers, clean_left).run(fmt::format("{} of {}", number, open.size()));
  }
  screen.line();
  return answers;
}

}  // namespace hambrel::cli
