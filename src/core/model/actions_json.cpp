#include <algorithm>
#include <iterator>

#include "base/json.h"
#include "base/json_reader.h"
#include "base/text.h"
#include "model/actions_check.h"

namespace hambrel {

namespace {

using namespace actions;  // NOLINT: what is expected of each member

template <typename Object>
std::vector<std::string> globs(const Object& object, const char* key, bool needed) {
  std::vector<std::string> result = object.texts_or_none(key);
  const bool sound = std::all_of(result.begin(), result.end(), is_path_glob);
  if (!sound || (needed && result.empty()) || result.size() > kMost) object.wrong(key, kGlobExpected);
  return result;
}

template <typename Object>
Program program(const Object& object) {
  Program one{object.texts_or_none("run"), object.text_or("script", ""), object.text_or("interpreter", "")};
  if (one.script.empty() == one.words.empty()) object.wrong("run", kWordsExpected);
  if (one.script.empty() && (!is_absolute(one.words[0]) || one.words.size() > kMost))
    object.wrong("run", kWordsExpected);
  if (!one.script.empty() && !is_absolute(one.interpreter)) object.wrong("interpreter", kInterpreterExpected);
  if (one.script.size() > kMostScript) object.wrong("script", "a text of at most 64 KiB");
  return one;
}

template <typename Object>
Hook hook(const Object& object) {
  Hook one;
  for (const std::string& text : object.texts_or_none("when")) {
    const auto moment = hook_moment_from(text);
    if (!moment) object.wrong("when", kMomentsExpected);
    one.when.push_back(*moment);
  }
  if (one.when.empty()) object.wrong("when", kMomentsExpected);
  one.before = object.flag_or("before", false);
  one.program = program(object);
  one.writes = globs(object, "writes", false);
  one.reads_live = object.flag_or("reads_live", false);
  return one;
}

template <typename Object>
Account account(const Object& object) {
  Account one;
  one.group_only = object.text_or("kind", "user") == "group";
  one.name = object.text("name");
  one.text = object.text_or("text", "");
  one.home = object.text_or("home", "");
  one.shell = object.text_or("shell", "");
  one.groups = object.texts_or_none("groups");
  if (object.has("id")) {
    const std::uint64_t id = object.number("id");
    if (id == 0 || id > kMostId) object.wrong("id", "a number of an account");
    one.id = static_cast<std::uint32_t>(id);
  }
  const auto is_path = [](const std::string& path) { return path.empty() || (is_absolute(path) && is_field(path)); };
  if (!is_account_name(one.name)) object.wrong("name", kNameExpected);
  if (!is_field(one.text)) object.wrong("text", kLineExpected);
  if (!is_path(one.home)) object.wrong("home", "an absolute path");
  if (!is_path(one.shell)) object.wrong("shell", "an absolute path");
  if (one.groups.size() > kMost || !std::all_of(one.groups.begin(), one.groups.end(), is_account_name))
    object.wrong("groups", "a list of names of groups");
  return one;
}

template <typename Object>
OwnedDirectory directory(const Object& object) {
  OwnedDirectory one;
  one.path = object.text("path");
  one.user = object.text_or("user", "root");
  one.group = object.text_or("group", "root");
  const auto mode = mode_from(object.text_or("mode", "0755"));
  if (!is_directory(one.path)) object.wrong("path", kPathExpected);
  if (!is_account_name(one.user)) object.wrong("user", kNameExpected);
  if (!is_account_name(one.group)) object.wrong("group", kNameExpected);
  if (!mode) object.wrong("mode", kModeExpected);
  one.mode = *mode;
  return one;
}

template <typename Object>
Candidacy::Link link(const Object& object) {
  Candidacy::Link one{object.text("path"), object.text("file")};
  if (!is_directory(one.path)) object.wrong("path", "a path relative to the root");
  if (!is_directory(one.file)) object.wrong("file", "a path relative to the root");
  return one;
}

template <typename Object>
Candidacy candidacy(const Object& object) {
  Candidacy one;
  one.link = link(object);
  // unsigned, as both readers have it: a rank below zero has a member of its own
  const std::uint64_t rank = object.number_or("rank", 0), below = object.number_or("rank_below", 0);
  if (rank > kMostRank || below > kMostRank) object.wrong("rank", "a number up to 1000000");
  one.rank = static_cast<std::int64_t>(rank) - static_cast<std::int64_t>(below);
  if (!object.has("with")) return one;
  const auto with = object.objects("with");
  if (with.size() > kMost) object.wrong("with", "a list of at most 64");
  for (const auto& other : with) one.with.push_back(link(other));
  return one;
}

template <typename Object>
Question question(const Object& object) {
  Question one;
  one.key = object.text("key");
  one.text = object.text("text");
  const auto kind = question_kind_from(object.text_or("kind", "text"));
  one.choices = object.texts_or_none("choices");
  if (!is_question_key(one.key)) object.wrong("key", kKeyExpected);
  if (one.text.empty() || !is_utf8(one.text)) object.wrong("text", "a question");
  if (!kind) object.wrong("kind", kKindExpected);
  one.kind = *kind;
  if ((one.kind == Question::Kind::Choice) == one.choices.empty() || one.choices.size() > kMost)
    object.wrong("choices", "a list, for kind choice alone");
  if (!object.has("default")) return one;
  one.usual = object.text("default");
  if (one.is_secret() || !one.takes(*one.usual)) object.wrong("default", one.expected());
  return one;
}

template <typename Object>
Service service(const Object& object) {
  Service one;
  one.name = object.text("name");
  one.enable = object.flag_or("enable", true);
  one.start = object.flag_or("start", true);
  const auto on_upgrade = on_upgrade_from(object.text_or("on_upgrade", "restart"));
  one.check = object.texts_or_none("check");
  const std::uint64_t seconds = object.number_or("check_seconds", one.check_seconds);
  one.targets = object.texts_or_none("targets");
  if (!is_service_name(one.name)) object.wrong("name", kServiceExpected);
  if (!on_upgrade) object.wrong("on_upgrade", kOnUpgradeExpected);
  if (!one.check.empty() && (!is_absolute(one.check[0]) || one.check.size() > kMost))
    object.wrong("check", kWordsExpected);
  if (seconds == 0 || seconds > kMostCheckSeconds) object.wrong("check_seconds", "a number from 1 to 3600");
  if (one.targets.size() > kMost || !std::all_of(one.targets.begin(), one.targets.end(), is_service_name))
    object.wrong("targets", "a list of names of units");
  one.on_upgrade = *on_upgrade;
  one.check_seconds = static_cast<std::uint32_t>(seconds);
  return one;
}

template <typename Object>
SharedActions read_all(const Object& manifest) {
  constexpr const char* kMembers[] = {"accounts",   "directories", "triggers", "hooks",
                                      "candidates", "services",    "questions"};
  if (std::none_of(std::begin(kMembers), std::end(kMembers), [&](const char* one) { return manifest.has(one); }))
    return nullptr;
  Actions all;
  const auto each = [&](const char* key, const auto& read) {
    if (!manifest.has(key)) return;
    const auto objects = manifest.objects(key);
    if (objects.size() > kMost) manifest.wrong(key, "a list of at most 64");
    for (const auto& one : objects) read(one);
  };
  each("accounts", [&](const auto& one) { all.accounts.push_back(account(one)); });
  each("directories", [&](const auto& one) { all.directories.push_back(directory(one)); });
  each("candidates", [&](const auto& one) { all.candidates.push_back(candidacy(one)); });
  each("triggers", [&](const auto& one) {
    all.triggers.push_back({globs(one, "watches", true), globs(one, "writes", false), program(one)});
  });
  each("hooks", [&](const auto& one) { all.hooks.push_back(hook(one)); });
  each("services", [&](const auto& one) { all.services.push_back(service(one)); });
  each("questions", [&](const auto& one) { all.questions.push_back(question(one)); });
  return all.empty() ? nullptr : std::make_shared<const Actions>(std::move(all));
}

void put_program(Json& object, const Program& program) {
  if (!program.words.empty()) object["run"] = program.words;
  if (program.script.empty()) return;
  object["script"] = program.script;
  object["interpreter"] = program.interpreter;
}

Json json_of(const Hook& one) {
  Json object = {{"when", Json::array()}};
  for (const HookMoment moment : one.when) object["when"].push_back(text_of(moment));
  if (one.before) object["before"] = true;
  if (one.reads_live) object["reads_live"] = true;
  put_program(object, one.program);
  if (!one.writes.empty()) object["writes"] = one.writes;
  return object;
}

Json json_of(const Trigger& one) {
  Json object = {{"watches", one.watches}};
  put_program(object, one.program);
  if (!one.writes.empty()) object["writes"] = one.writes;
  return object;
}

Json json_of(const Account& one) {
  Json object = {{"name", one.name}};
  if (one.group_only) object["kind"] = "group";
  for (const auto& [key, value] :
       {std::pair("text", &one.text), std::pair("home", &one.home), std::pair("shell", &one.shell)})
    if (!value->empty()) object[key] = *value;
  if (!one.groups.empty()) object["groups"] = one.groups;
  if (one.id) object["id"] = *one.id;
  return object;
}

Json json_of(const OwnedDirectory& one) {
  return {{"path", one.path}, {"user", one.user}, {"group", one.group}, {"mode", mode_text(one.mode)}};
}

Json json_of(const Question& one) {
  Json object = {{"key", one.key}, {"text", one.text}};
  if (one.kind != Question::Kind::Text) object["kind"] = text_of(one.kind);
  if (!one.choices.empty()) object["choices"] = one.choices;
  if (one.usual) object["default"] = *one.usual;
  return object;
}

Json json_of(const Service& one) {
  Json object = {{"name", one.name}};
  if (!one.enable) object["enable"] = false;
  if (!one.start) object["start"] = false;
  if (one.on_upgrade != Service::OnUpgrade::Restart) object["on_upgrade"] = text_of(one.on_upgrade);
  if (!one.check.empty()) object["check"] = one.check;
  if (!one.check.empty()) object["check_seconds"] = one.check_seconds;
  if (!one.targets.empty()) object["targets"] = one.targets;
  return object;
}

Json json_of(const Candidacy& one) {
  Json object = {{"path", one.link.path}, {"file", one.link.file}};
  if (one.rank > 0) object["rank"] = one.rank;
  if (one.rank < 0) object["rank_below"] = -one.rank;
  for (const Candidacy::Link& other : one.with) object["with"].push_back({{"path", other.path}, {"file", other.file}});
  return object;
}

}  // namespace

SharedActions read_actions(const JsonObject& manifest) { return read_all(manifest); }
SharedActions read_actions(const FastObject& manifest) { return read_all(manifest); }

void put_actions(Json& manifest, const Actions& actions) {
  const auto put = [&](const char* key, const auto& list) {
    for (const auto& one : list) manifest[key].push_back(json_of(one));
  };
  put("accounts", actions.accounts);
  put("directories", actions.directories);
  put("candidates", actions.candidates);
  put("triggers", actions.triggers);
  put("hooks", actions.hooks);
  put("services", actions.services);
  put("questions", actions.questions);
}

std::string actions_text(const SharedActions& actions) {
  if (actions == nullptr) return {};
  Json object = Json::object();
  put_actions(object, *actions);
  return canonical(object);
}

SharedActions actions_from(std::string_view text) {
  if (text.empty()) return nullptr;
  thread_local JsonReader reader;  // its memory serves for all of a plan
  return read_all(reader.parse(text, "actions"));
}

}  // namespace hambrel
