#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "model/actions_check.h"

namespace hambrel {

namespace {

using namespace actions;  // NOLINT: what is expected of each key

/// The tables [[key]], each read by `read`.
template <typename Read>
void each_table(TomlTable& top, const char* key, Read read) {
  const toml::node* const list = top.find(key);
  if (list == nullptr) return;
  if (!list->is_array_of_tables())
    throw Error(ErrorCode::Invalid, fmt::format("{} must be written as [[{}]] tables", key, key), top.at(list));
  if (list->as_array()->size() > kMost)
    throw Error(ErrorCode::Invalid, fmt::format("there are more than {} [[{}]]", kMost, key), top.at(list));
  for (const toml::node& item : *list->as_array()) {
    TomlTable table = top.below(*item.as_table(), key);
    read(table);
    table.done();
  }
}

std::vector<std::string> globs(TomlTable& table, const char* key, bool needed) {
  std::vector<std::string> result;
  for (const auto& [glob, at] : table.texts(key)) {
    if (!is_path_glob(glob))
      throw Error(ErrorCode::Invalid, fmt::format("{} must be {}", key, kGlobExpected), at,
                  glob.starts_with("/") ? "leave out the leading /" : "");
    result.push_back(glob);
  }
  if ((needed && result.empty()) || result.size() > kMost) table.wrong(key, kGlobExpected, table.find(key));
  return result;
}

Program program(TomlTable& table) {
  Program one;
  for (const auto& [word, at] : table.texts("run")) one.words.push_back(word);
  one.script = table.text("script", false);
  one.interpreter = table.text("interpreter", false);
  const bool has_script = !one.script.empty();
  if (has_script == !one.words.empty())
    throw Error(ErrorCode::Invalid, "either run or script says what runs", table.at(nullptr),
                R"(such as run = ["/sbin/ldconfig"])");
  if (!has_script) {
    if (!is_absolute(one.words[0]) || one.words.size() > kMost) table.wrong("run", kWordsExpected, table.find("run"));
    return one;
  }
  if (one.interpreter.empty()) one.interpreter = "/bin/sh";
  if (!is_absolute(one.interpreter)) table.wrong("interpreter", kInterpreterExpected, table.find("interpreter"));
  if (one.script.size() > kMostScript) table.wrong("script", "a text of at most 64 KiB", table.find("script"));
  return one;
}

Hook hook(TomlTable& table) {
  Hook one;
  for (const auto& [text, at] : table.texts("when")) {
    const auto moment = hook_moment_from(text);
    if (!moment) throw Error(ErrorCode::Invalid, fmt::format("when must be {}", kMomentsExpected), at);
    one.when.push_back(*moment);
  }
  if (one.when.empty()) table.wrong("when", kMomentsExpected, table.find("when"));
  one.before = table.flag("before", false);
  one.program = program(table);
  one.writes = globs(table, "writes", false);
  one.reads_live = table.flag("reads-live", false);
  if (one.reads_live && one.before)
    table.wrong("reads-live", "left out of a hook with before = true, which sees the system as it is",
                table.find("reads-live"));
  return one;
}

Account account(TomlTable& table) {
  Account one;
  const std::string kind = table.text("kind", false);
  if (!kind.empty() && kind != "user" && kind != "group")
    table.wrong("kind", "\"user\" or \"group\"", table.find("kind"));
  one.group_only = kind == "group";
  one.name = table.text("name", true, kNameExpected);
  if (!is_account_name(one.name)) table.wrong("name", kNameExpected, table.find("name"));
  if (table.find("id") != nullptr) one.id = static_cast<std::uint32_t>(table.number("id", 1, kMostId, 0));
  if (one.group_only) return one;
  one.text = table.text("text", false);
  one.home = table.text("home", false);
  one.shell = table.text("shell", false);
  if (!is_field(one.text)) table.wrong("text", kLineExpected, table.find("text"));
  for (const auto& [key, value] : {std::pair("home", one.home), std::pair("shell", one.shell)})
    if (!value.empty() && (!is_absolute(value) || !is_field(value)))
      table.wrong(key, "an absolute path without ':'", table.find(key));
  for (const auto& [group, at] : table.texts("groups")) {
    if (!is_account_name(group))
      throw Error(ErrorCode::Invalid, fmt::format("each of groups must be {}", kNameExpected), at);
    one.groups.push_back(group);
  }
  return one;
}

OwnedDirectory directory(TomlTable& table) {
  OwnedDirectory one;
  one.path = table.text("path", true, kPathExpected);
  if (!is_directory(one.path)) table.wrong("path", kPathExpected, table.find("path"));
  for (const auto& [key, value] : {std::pair("user", &one.user), std::pair("group", &one.group)})
    if (table.find(key) != nullptr) {
      *value = table.text(key, true, kNameExpected);
      if (!is_account_name(*value)) table.wrong(key, kNameExpected, table.find(key));
    }
  if (table.find("mode") != nullptr) {
    const auto mode = mode_from(table.text("mode", true, kModeExpected));
    if (!mode) table.wrong("mode", kModeExpected, table.find("mode"));
    one.mode = *mode;
  }
  return one;
}

Candidacy::Link link(TomlTable& table) {
  Candidacy::Link one;
  for (const auto& [key, value] : {std::pair("path", &one.path), std::pair("file", &one.file)}) {
    *value = table.text(key, true, "a path relative to the root, such as usr/bin/editor");
    if (!is_directory(*value)) table.wrong(key, "a path relative to the root, such as usr/bin/editor", table.find(key));
  }
  return one;
}

Candidacy candidacy(TomlTable& table) {
  Candidacy one;
  one.link = link(table);
  one.rank = table.number("rank", -kMostRank, kMostRank, 0);
  if (const toml::node* const list = table.find("with"); list != nullptr) {
    const char* const expected = "a list of tables {path = ..., file = ...}";
    if (!list->is_array() || list->as_array()->size() > kMost) table.wrong("with", expected, list);
    for (const toml::node& item : *list->as_array()) {
      if (!item.is_table()) table.wrong("with", expected, &item);
      TomlTable below = table.below(*item.as_table(), "candidates.with");
      one.with.push_back(link(below));
      below.done();
    }
  }
  return one;
}

Question question(TomlTable& table) {
  Question one;
  one.key = table.text("key", true, kKeyExpected);
  if (!is_question_key(one.key)) table.wrong("key", kKeyExpected, table.find("key"));
  one.text = table.text("text", true, "a question");
  if (table.find("kind") != nullptr) {
    const auto kind = question_kind_from(table.text("kind", true, kKindExpected));
    if (!kind) table.wrong("kind", kKindExpected, table.find("kind"));
    one.kind = *kind;
  }
  for (const auto& [choice, at] : table.texts("choices")) {
    if (choice.empty() || printable(choice) != choice) throw Error(ErrorCode::Invalid, "a choice must be a text", at);
    one.choices.push_back(choice);
  }
  if ((one.kind == Question::Kind::Choice) == one.choices.empty() || one.choices.size() > kMost)
    table.wrong("choices", "a list of texts, for kind = \"choice\" alone", table.find("choices"));
  const toml::node* const usual = table.find("default");
  if (usual == nullptr) return one;
  if (one.is_secret()) table.wrong("default", "left out: a secret that everybody can read is none", usual);
  one.usual = answer_in(*usual);
  if (!one.usual || !one.takes(*one.usual)) table.wrong("default", one.expected(), usual);
  return one;
}

Service service(TomlTable& table) {
  Service one;
  one.name = table.text("name", true, kServiceExpected);
  if (!is_service_name(one.name)) table.wrong("name", kServiceExpected, table.find("name"));
  one.enable = table.flag("enable", true);
  one.start = table.flag("start", true);
  if (table.find("on-upgrade") != nullptr) {
    const auto on_upgrade = on_upgrade_from(table.text("on-upgrade", true, kOnUpgradeExpected));
    if (!on_upgrade) table.wrong("on-upgrade", kOnUpgradeExpected, table.find("on-upgrade"));
    one.on_upgrade = *on_upgrade;
  }
  for (const auto& [word, at] : table.texts("check")) one.check.push_back(word);
  if (!one.check.empty() && (!is_absolute(one.check[0]) || one.check.size() > kMost))
    table.wrong("check", kWordsExpected, table.find("check"));
  if (one.check.empty() && table.find("check-seconds") != nullptr)
    table.wrong("check-seconds", "left out where there is no check", table.find("check-seconds"));
  one.check_seconds =
      static_cast<std::uint32_t>(table.number("check-seconds", 1, kMostCheckSeconds, one.check_seconds));
  for (const auto& [target, at] : table.texts("targets")) {
    if (!is_service_name(target))
      throw Error(ErrorCode::Invalid, "each of targets must be the name of a unit, such as multi-user.target", at);
    one.targets.push_back(target);
  }
  return one;
}

}  // namespace

Actions read_actions(TomlTable& top) {
  Actions all;
  each_table(top, "accounts", [&](TomlTable& table) { all.accounts.push_back(account(table)); });
  each_table(top, "directories", [&](TomlTable& table) { all.directories.push_back(directory(table)); });
  each_table(top, "triggers", [&](TomlTable& table) {
    Trigger one;
    one.watches = globs(table, "watches", true);
    one.program = program(table);
    one.writes = globs(table, "writes", false);
    all.triggers.push_back(std::move(one));
  });
  each_table(top, "candidates", [&](TomlTable& table) { all.candidates.push_back(candidacy(table)); });
  each_table(top, "hooks", [&](TomlTable& table) { all.hooks.push_back(hook(table)); });
  each_table(top, "services", [&](TomlTable& table) { all.services.push_back(service(table)); });
  each_table(top, "questions", [&](TomlTable& table) {
    all.questions.push_back(question(table));
    const auto& keys = all.questions;
    if (std::any_of(keys.begin(), keys.end() - 1, [&](const Question& one) { return one.key == keys.back().key; }))
      table.wrong("key", "another one for each question", table.find("key"));
  });
  return all;
}

}  // namespace hambrel
