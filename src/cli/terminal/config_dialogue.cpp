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
  if (!mine || !theirs)
    return say(mine     ? "The package's version is no text, so it can't be shown."
               : theirs ? "Yours is not there, or no text, so the two can't be compared."
                        : "It is no text, so the two versions can't be compared.");
  if (merged && merged->clean) {
    say(fmt::format("You changed {}, the new version {}, and the two fit together. Merged, yours changes so:",
                    lines_text(*base, *mine), lines_text(*base, *theirs)));
    return print_diff(screen, diff(*mine, merged->text), kMostLines);
  }
  if (merged)
    say(fmt::format("You changed {}, the new version {}, some of them the same ones. From yours to the new version:",
                    lines_text(*base, *mine), lines_text(*base, *theirs)));
  else if (question.news)
    say("What both versions began from is not known, so they can't be merged. From yours to the new version:");
  else
    say("No new version waits. From yours to the package's version:");
  print_diff(screen, diff(*mine, *theirs), kMostLines);
}

void show_changes(const Screen& screen, const ConfigQuestion& question, const std::string& which) {
  const auto& [base, mine, theirs] = question.texts;
  const auto& from = which == "diff" ? mine : base;
  const auto& to = which == "mine" ? mine : theirs;
  if (!from || !to) return screen.line("  That can't be shown: one of the two is not known, or no text.");
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
      const auto given = ask(screen_, "What is to become of it?", words());
      if (!given) throw Error(ErrorCode::Declined, "not decided; nothing was changed");
      const std::string answer = given->empty() ? otherwise() : lower(*given);
      if (shows(answer)) continue;
      if (decides(answer)) return;
      if (answer != "edit" || !has_text()) screen_.line(fmt::format("  \"{}\" is none of these.", printable(*given)));
    }
  }

 private:
  std::string otherwise() const { return clean_ ? "merge" : "wait"; }
  bool has_text() const { return question_.texts.mine.has_value(); }

  void print_choices() const {
    const auto& merged = question_.merged;
    Table table;
    const auto offer = [&](const char* word, const std::string& meaning) {
      table.row({{word, Style::Strong}, {meaning}});
    };
    if (clean_) offer("merge", "both changes together, as shown");
    if (clean_ && clean_left_ > 0)
      offer("all", fmt::format("this merge, and those of {} that fit together as well",
                               count_text(clean_left_, "other file", "other files")));
    if (question_.news) offer("keep", "yours as it is; the new version is not taken");
    offer("take", "the package's version; yours goes to the attic");
    if (has_text())
      offer("edit", fmt::format("in {}{}", printable(os::editor()),
                                clean_   ? ", beginning with the merge"
                                : merged ? ", beginning with both versions, what conflicts between markers"
                                         : ", beginning with yours"));
    offer("wait", question_.news ? fmt::format("yours stays, the new one waits: `{}`",
                                               session_.copyable("hambrel configs settle /" + question_.path))
                                 : "it stays as it is");
    if (merged)
      offer("show",
            "`show mine`, `show new`: what each side changed; `show diff`: from yours to the new one; "
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
      screen_.line("  There are still markers in it, so it is not taken. Edit it again, or choose something else.");
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
              fmt::format(" {} to be decided. Nothing has been changed yet, and nothing is asked later.",
                          count_text(open.size(), "file is", "files are")));
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
