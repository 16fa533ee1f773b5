#include "operations/configuration_question.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace hambrel::operations {

using plan::ConfigAction;

namespace {

std::optional<Merged> merged_of(const ConfigQuestion& question) {
  const auto& [base, mine, theirs] = question.texts;
  if (!question.news || !base || !mine || !theirs) return std::nullopt;
  return merge(*base, *mine, *theirs);
}

std::string why_unmerged(const ConfigQuestion& question) {
  const auto& [base, mine, theirs] = question.texts;
  if (!mine || !theirs) return "it is not text";
  if (!base) return "the version both are based on is not known";
  return "you and the new version changed the same lines";
}

void settle(const ConfigQuestion& question, ConfigAction action, bool markers, ConfigDecisions& decisions) {
  txn::Choice choice{action, {}};
  if (action == ConfigAction::Merge) {
    if (question.merges_cleanly() || (question.merged && markers)) {
      choice.content = question.merged->text;
    } else {
      choice.action = ConfigAction::Wait;
      decisions.notices.push_back({plan::Notice::Kind::ConfigUnmerged, question.path, why_unmerged(question)});
    }
  }
  decisions.choices.emplace(question.path, std::move(choice));
}

}  // namespace

ConfigAction parse_config_action(const std::string& word) {
  for (const ConfigAction action : {ConfigAction::Keep, ConfigAction::Take, ConfigAction::Merge, ConfigAction::Wait})
    if (word == text_of(action)) return action;
  throw Error(ErrorCode::Usage, fmt::format("--configs {}: must be keep, take, merge or wait", printable(word)));
}

ConfigDecisions decide(Root& root, std::vector<ConfigQuestion> questions, const ConfigTerms& terms) {
  for (ConfigQuestion& one : questions) one.merged = merged_of(one);
  std::stable_partition(questions.begin(), questions.end(),
                        [](const ConfigQuestion& one) { return one.merges_cleanly(); });
  ConfigDecisions decisions;
  for (ConfigQuestion& one : questions) {
    std::optional<ConfigAction> action = terms.action;
    if (!action && terms.heed_settings)
      for (const settings::ConfigRule& rule : root.settings().configs)
        if (!action && path_glob_match(rule.pattern, "/" + one.path)) action = parse_config_action(rule.choice);
    if (!action && terms.may_ask)
      decisions.open.push_back(std::move(one));
    else
      settle(one, action.value_or(ConfigAction::Wait), terms.markers, decisions);
  }
  return decisions;
}

std::vector<ConfigQuestion> questions_of(Root& root, const std::vector<txn::Conflict>& conflicts,
                                         const std::vector<PackageId>& coming, const Tables& tables,
                                         const plan::Plan& plan) {
  std::vector<ConfigQuestion> questions;
  for (const txn::Conflict& one : conflicts) {
    const PackageId id = coming[one.package_index];
    ConfigQuestion question{one.path, root.universe().package(id).title(), {}};
    for (const plan::Step& step : plan.steps)
      if (step.after_id == id && !step.before.empty())
        question.package = fmt::format("{} {} -> {}", step.name, step.before, step.after);
    question.texts.mine = txn::read_text(root.files(), one.mine);
    question.texts.base = txn::read_text(root.files(), one.base);
    std::string theirs = content_of(root, id, one.theirs.path, tables.at(id));
    if (is_text(theirs)) question.texts.theirs = std::move(theirs);
    questions.push_back(std::move(question));
  }
  return questions;
}

}  // namespace hambrel::operations
