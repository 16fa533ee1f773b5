#include "cli/terminal/config_dialogue.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
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

}  // namespace

void print_diff(const Screen& screen, const std::string& before, const std::string& after, std::size_t most) {
  const auto lines = diff(before, after);
  std::size_t shown = 0;
  for (const DiffLine& one : lines) {
    if (most > 0 && shown == most && lines.size() > most + 3) {
      screen.line(fmt::format("      ... {} more lines", lines.size() - shown));
      return;
    }
    ++shown;
    std::string text;
    for (const char c : one.text) c == '\t' ? text += "    " : text += c;
    text = printable(text);
    switch (one.kind) {
      case DiffLine::Kind::Hunk:  // without what comes after the numbers: a line that helps in programs, not here
        screen.line("    " + screen.paint(Style::Faint, text.substr(0, text.find(" @@", 3) + 3)));
        break;
      case DiffLine::Kind::Same: screen.line("      " + text); break;
      case DiffLine::Kind::Gone: screen.line("    " + screen.paint(Style::Go, "- " + text)); break;
      case DiffLine::Kind::Come: screen.line("    " + screen.paint(Style::Come, "+ " + text)); break;
      case DiffLine::Kind::NoNewline:
        screen.line("      " + screen.paint(Style::Faint, "(no newline at the end)"));
        break;
    }
  }
}

namespace {

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
    return print_diff(screen, *mine, merged->text, kMostLines);
  }
  if (merged)
    say(fmt::format("You changed {}, the new version {}, some of them the same ones. From yours to the new version:",
                    lines_text(*base, *mine), lines_text(*base, *theirs)));
  else if (question.news)
    say("What both versions began from is not known, so they can't be merged. From yours to the new version:");
  else
    say("No new version waits. From yours to the package's version:");
  print_diff(screen, *mine, *theirs, kMostLines);
}

void show_changes(const Screen& screen, const ConfigQuestion& question, const std::string& which) {
  const auto& [base, mine, theirs] = question.texts;
  const auto& from = which == "diff" ? mine : base;
  const auto& to = which == "mine" ? mine : theirs;
  if (!from || !to) return screen.line("  That can't be shown: one of the two is not known, or no text.");
  print_diff(screen, *from, *to, 0);
}

void ask_one(Session& session, const std::vector<ConfigQuestion>& open, const ConfigQuestion& question,
             const std::string& place, txn::Choices& answers, std::size_t clean_left) {
  const Screen& screen = session.screen();
  const auto& merged = question.merged;
  const bool clean = merged && merged->clean;
  screen.line();
  screen.line(fmt::format("{}  {}  {}", screen.paint(Style::Strong, place),
                          screen.paint(Style::Name, "/" + printable(question.path)),
                          screen.paint(Style::Faint, question.package)));
  introduce(screen, question);
  screen.line();
  Table table;
  const auto offer = [&](const char* word, const std::string& meaning) {
    table.row({{word, Style::Strong}, {meaning}});
  };
  if (clean) offer("merge", "both changes together, as shown");
  if (clean && clean_left > 0)
    offer("all", fmt::format("this merge, and those of {} that fit together as well",
                             count_text(clean_left, "other file", "other files")));
  if (question.news) offer("keep", "yours as it is; the new version is not taken");
  offer("take", "the package's version; yours goes to the attic");
  if (question.texts.mine)
    offer("edit", fmt::format("in {}{}", printable(os::editor()),
                              clean    ? ", beginning with the merge"
                              : merged ? ", beginning with both versions, what conflicts between markers"
                                       : ", beginning with yours"));
  offer("wait", question.news ? fmt::format("yours stays, the new one waits: `{}`",
                                            session.copyable("hambrel configs settle /" + question.path))
                              : "it stays as it is");
  if (merged)
    offer("show",
          "`show mine`, `show new`: what each side changed; `show diff`: from yours to the new one; "
          "`show merge`");
  table.print(screen);
  screen.line();
  const std::string otherwise = clean ? "merge" : "wait";
  const std::string words = fmt::format("{}{}{}take, {}wait{}; Enter: {}", clean ? "merge, " : "",
                                        clean && clean_left > 0 ? "all, " : "", question.news ? "keep, " : "",
                                        question.texts.mine ? "edit, " : "", merged ? " or show" : "", otherwise);
  for (;;) {
    const auto given = cli::ask(screen, "What is to become of it?", words);
    if (!given) throw Error(ErrorCode::Declined, "not decided; nothing was changed");
    std::string answer = lower(*given);
    if (answer.empty()) answer = otherwise;
    if (merged && (answer == "show mine" || answer == "show new" || answer == "show diff" || answer == "show")) {
      show_changes(screen, question, answer == "show" ? "diff" : answer.substr(5));
      continue;
    }
    if (merged && answer == "show merge") {
      print_diff(screen, *question.texts.mine, merged->text, 0);
      continue;
    }
    if (answer == "edit" && question.texts.mine) {
      const std::string text =
          os::edit_text(merged ? merged->text : *question.texts.mine, std::string(os::name_of(question.path)));
      if (has_markers(text)) {
        screen.line("  There are still markers in it, so it is not taken. Edit it again, or choose something else.");
        continue;
      }
      print_diff(screen, *question.texts.mine, text, kMostLines);
      answers[question.path] = {ConfigAction::Edit, text};
      return;
    }
    if (clean && (answer == "merge" || answer == "all")) {
      for (const ConfigQuestion& one : open) {
        const bool meant = one.path == question.path || answer == "all";
        if (meant && !answers.contains(one.path) && one.merges_cleanly())
          answers[one.path] = {ConfigAction::Merge, one.merged->text};
      }
      return;
    }
    if ((answer == "keep" && question.news) || answer == "take" || answer == "wait") {
      answers[question.path] = {answer == "keep" && question.news ? ConfigAction::Keep
                                : answer == "take"                ? ConfigAction::Take
                                                                  : ConfigAction::Wait,
                                {}};
      return;
    }
    screen.line(fmt::format("  \"{}\" is none of these.", printable(*given)));
  }
}

}  // namespace

txn::Choices ask_about(Session& session, const std::vector<ConfigQuestion>& open) {
  const Screen& screen = session.screen();
  txn::Choices answers;
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
    ask_one(session, open, one, fmt::format("{} of {}", number, open.size()), answers, clean_left);
  }
  screen.line();
  return answers;
}

}  // namespace hambrel::cli
