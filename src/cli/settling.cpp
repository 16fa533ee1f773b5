#include "cli/settling.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "os/editor.h"
#include "repo/download.h"
#include "repo/index.h"
#include "repo/transfer.h"

namespace hambrel::cli {

using plan::ConfigAction;

namespace {

constexpr std::size_t kMostLines = 30;  // of a diff that is shown unasked

std::string lines_text(const std::string& before, const std::string& after) {
  const Extent extent = extent_of(diff(before, after));
  return count_text(std::max(extent.gone, extent.come), "line", "lines");
}

std::optional<Merged> merged_of(const Question& question) {
  const auto& [base, mine, theirs] = question.texts;
  if (!question.news || !base || !mine || !theirs) return std::nullopt;
  return merge(*base, *mine, *theirs);
}

bool merges_cleanly(const Question& question) { return question.merged && question.merged->clean; }

std::string why_unmerged(const Question& question) {
  const auto& [base, mine, theirs] = question.texts;
  if (!mine || !theirs) return "it is no text";
  if (!base) return "what both versions began from is not known";
  return "you and the new version changed the same lines";
}

std::string content_of(Session& session, PackageId id, const txn::Conflict& conflict,
                       const std::shared_ptr<const archive::Table>& table) {
  const auto read = [&](const archive::PackageReader& reader) {
    return reader.content(*reader.find(conflict.theirs.path));
  };
  if (const auto* const reader = session.file_reader(id)) return read(*reader);
  const Package& package = session.universe().package(id);
  const Offer& offer = session.universe()[id].offers.front();
  const auto open = [&](std::unique_ptr<os::ReadableFile> file, const std::string& where) {
    return archive::PackageReader(std::move(file), where, offer.table_digest, table);
  };
  if (repo::in_cache(session.root(), package, offer)) {
    const std::string path = repo::cache_path(package);
    try {
      return read(open(session.root().open(path), session.root().shown(path)));
    } catch (const Error& problem) {  // a cache is not a safe
      session.progress().note(fmt::format("{}: {}; it is fetched again", problem.where(), problem.problem()));
    }
  }
  const auto& all = session.repositories();
  const auto from = std::find_if(all.begin(), all.end(), [&](const auto& one) { return one.name == offer.repository; });
  if (from == all.end())
    throw Error(ErrorCode::NotFound, fmt::format("the repository {} is gone", offer.repository), package.title(),
                "run `hambrel refresh`");
  const std::string url = from->url + "/" + repo::package_url_path(package);
  return read(open(repo::open_url(url, offer.size), url));
}

}  // namespace

std::vector<Question> questions_of(Session& session, const std::vector<txn::Conflict>& conflicts,
                                   const std::vector<PackageId>& coming,
                                   const std::map<PackageId, std::shared_ptr<const archive::Table>>& tables,
                                   const plan::Plan& plan) {
  std::vector<Question> questions;
  for (const txn::Conflict& one : conflicts) {
    const PackageId id = coming[one.package_index];
    Question question{one.path, session.universe().package(id).title(), {}};
    for (const plan::Step& step : plan.steps)
      if (step.after_id == id && !step.before.empty())
        question.package = fmt::format("{} {} -> {}", step.name, step.before, step.after);
    question.texts.mine = txn::read_text(session.root(), one.mine);
    question.texts.base = txn::read_text(session.root(), one.base);
    std::string theirs = content_of(session, id, one, tables.at(id));
    if (is_text(theirs)) question.texts.theirs = std::move(theirs);
    questions.push_back(std::move(question));
  }
  return questions;
}

ConfigAction parse_config_action(const std::string& word) {
  for (const ConfigAction action : {ConfigAction::Keep, ConfigAction::Take, ConfigAction::Merge, ConfigAction::Wait})
    if (word == text_of(action)) return action;
  throw Error(ErrorCode::Usage, fmt::format("--configs {}: keep, take, merge or wait was expected", printable(word)));
}

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

Settling::Settling(Session& session, const Arguments& arguments, std::vector<Question> questions, bool settings)
    : session_(session), questions_(std::move(questions)) {
  for (Question& one : questions_) one.merged = merged_of(one);
  // clean merges come first
  std::stable_partition(questions_.begin(), questions_.end(), merges_cleanly);
  const auto given = arguments.value("configs");
  const bool may_ask = !session.json() && !arguments.has("yes") && can_ask();
  for (const Question& one : questions_) {
    std::optional<ConfigAction> action;
    if (given) action = parse_config_action(*given);
    if (!action && settings)
      for (const repo::ConfigRule& rule : session.settings().configs)
        if (!action && path_glob_match(rule.pattern, "/" + one.path)) action = parse_config_action(rule.choice);
    if (!action && may_ask)
      open_.insert(one.path);
    else
      decide(one, action.value_or(ConfigAction::Wait), arguments.has("markers"));
  }
}

void Settling::decide(const Question& question, ConfigAction action, bool markers) {
  txn::Choice choice{action, {}};
  if (action == ConfigAction::Merge) {
    const auto& merged = question.merged;
    if (merged && (merged->clean || markers)) {
      choice.content = merged->text;
    } else {
      choice.action = ConfigAction::Wait;
      notices_.push_back({plan::Notice::Kind::ConfigUnmerged, question.path, why_unmerged(question)});
    }
  }
  decided_.emplace(question.path, std::move(choice));
}

txn::Choices Settling::ask() const {
  const Screen& screen = session_.screen();
  txn::Choices answers;
  screen.line();
  screen.line(screen.paint(Style::Strong, "Configuration:") +
              fmt::format(" {} to be decided. Nothing has been changed yet, and nothing is asked later.",
                          count_text(open_.size(), "file is", "files are")));
  std::size_t number = 0, clean_left = 0;
  for (const Question& one : questions_)
    if (open_.contains(one.path) && merges_cleanly(one)) ++clean_left;
  for (const Question& one : questions_) {
    if (!open_.contains(one.path)) continue;
    ++number;
    if (merges_cleanly(one)) --clean_left;
    if (answers.contains(one.path)) continue;  // "all"
    ask_one(one, fmt::format("{} of {}", number, open_.size()), answers, clean_left);
  }
  screen.line();
  return answers;
}

namespace {

/// What stands in front of the choices: who changed how much, and what the first choice would do.
void introduce(const Screen& screen, const Question& question) {
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

void show_changes(const Screen& screen, const Question& question, const std::string& which) {
  const auto& [base, mine, theirs] = question.texts;
  const auto& from = which == "diff" ? mine : base;
  const auto& to = which == "mine" ? mine : theirs;
  if (!from || !to) return screen.line("  That can't be shown: one of the two is not known, or no text.");
  print_diff(screen, *from, *to, 0);
}

}  // namespace

void Settling::ask_one(const Question& question, const std::string& place, txn::Choices& answers,
                       std::size_t clean_left) const {
  const Screen& screen = session_.screen();
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
                                            session_.copyable("hambrel configs settle /" + question.path))
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
      for (const Question& one : questions_) {
        const bool meant = one.path == question.path || (answer == "all" && open_.contains(one.path));
        if (meant && !answers.contains(one.path) && merges_cleanly(one))
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

}  // namespace hambrel::cli
