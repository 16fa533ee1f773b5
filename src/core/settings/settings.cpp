#include "settings/settings.h"

#include <fmt/format.h>

#include <set>

#include "base/error.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "model/package.h"

namespace hambrel::settings {

namespace {

constexpr std::uint64_t kMostSettingsBytes = 1 << 20;

void read_rule(TomlTable table, Settings& settings) {
  static const std::set<std::string, std::less<>> kChoices{"keep", "take", "merge", "wait"};
  const std::string choice = table.text("choice", true, "keep, take, merge or wait");
  if (!kChoices.contains(choice)) table.wrong("choice", "keep, take, merge or wait", table.find("choice"));
  for (const auto& [pattern, at] : table.texts("paths")) {
    if (!pattern.starts_with("/"))
      throw Error(ErrorCode::Invalid, "configs.paths must begin with /", at, "for example \"/etc/lampdesk/**\"");
    settings.configs.push_back({pattern, choice});
  }
  table.done();
}

void read_follow(TomlTable& table, Settings& settings) {
  const toml::node* const follow = table.find("follow");
  if (follow == nullptr) return;
  const char* const expected = "a table of NAME = \"CHANNEL\"";
  if (!follow->is_table()) table.wrong("follow", expected, follow);
  for (const auto& [name, channel] : *follow->as_table()) {
    const auto text = channel.value<std::string>();
    if (!text || !is_package_name(*text) || !is_package_name(name.str())) table.wrong("follow", expected, &channel);
    settings.follow.emplace(name.str(), *text);
  }
}

void read_limits(TomlTable& table, const std::string& file, const char* title, const char* expected,
                 const std::vector<std::pair<const char*, std::uint64_t*>>& limits) {
  const toml::node* const node = table.find(title);
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong(title, expected, node);
  TomlTable given(*node->as_table(), file, title);
  constexpr std::int64_t kMost = 1'000'000'000;
  for (const auto& [key, limit] : limits)
    *limit = static_cast<std::uint64_t>(given.number(key, 0, kMost, static_cast<std::int64_t>(*limit)));
  given.done();
}

void read_fetch(TomlTable& table, const std::string& file, FetchLimits& fetch) {
  const toml::node* const node = table.find("fetch");
  if (node == nullptr) return;
  if (!node->is_table())
    table.wrong("fetch", "a table with index_mebibytes, document_seconds, least_rate, window_seconds", node);
  TomlTable given(*node->as_table(), file, "fetch");
  fetch.index_mebibytes = static_cast<std::uint64_t>(given.number("index_mebibytes", 1, 1024, 256));
  fetch.document_seconds = static_cast<unsigned>(given.number("document_seconds", 1, 86400, 600));
  fetch.least_rate = static_cast<std::uint64_t>(given.number("least_rate", 0, 1'000'000'000, 512));
  fetch.window_seconds = static_cast<unsigned>(given.number("window_seconds", 1, 3600, 30));
  given.done();
}

void read_hooks(TomlTable& table, const std::string& file, HookRules& rules) {
  const toml::node* const node = table.find("hooks");
  if (node == nullptr) return;
  if (!node->is_table())
    table.wrong("hooks", "a table with allow, seconds, memory_mebibytes, mebibytes, undeclared", node);
  TomlTable given(*node->as_table(), file, "hooks");
  const auto choice = [&](const char* key, const char* usual, const char* other) {
    const std::string text = given.text(key, false);
    if (!text.empty() && text != usual && text != other)
      given.wrong(key, fmt::format("\"{}\" (the default) or \"{}\"", usual, other), given.find(key));
    return text == other;
  };
  rules.allowed = !choice("allow", "declared", "none");
  rules.discard_undeclared = choice("undeclared", "refuse", "discard");
  rules.seconds = static_cast<unsigned>(given.number("seconds", 1, 86400, rules.seconds));
  const auto amount = [&](const char* key, std::uint64_t& value) {
    value = static_cast<std::uint64_t>(given.number(key, 1, 1 << 20, static_cast<std::int64_t>(value)));
  };
  amount("memory_mebibytes", rules.memory_mebibytes);
  amount("mebibytes", rules.mebibytes);
  given.done();
}

void read_build(TomlTable& table, const std::string& file, BuildRules& rules) {
  const toml::node* const node = table.find("build");
  if (node == nullptr) return;
  if (!node->is_table())
    table.wrong("build", "a table with directory, seconds, processes, memory_mebibytes, mebibytes", node);
  TomlTable given(*node->as_table(), file, "build");
  rules.directory = given.text("directory", false);
  if (!rules.directory.empty() && !rules.directory.starts_with("/"))
    given.wrong("directory", "an absolute path of this machine", given.find("directory"));
  rules.seconds = static_cast<unsigned>(given.number("seconds", 1, 30 * 86400, rules.seconds));
  rules.processes = static_cast<unsigned>(given.number("processes", 1, 1 << 20, rules.processes));
  const auto amount = [&](const char* key, std::uint64_t& value) {
    value = static_cast<std::uint64_t>(given.number(key, 1, 1 << 24, static_cast<std::int64_t>(value)));
  };
  amount("memory_mebibytes", rules.memory_mebibytes);
  amount("mebibytes", rules.mebibytes);
  given.done();
}

Answers answers_in(const toml::table& table, const std::string& file) {
  Answers all;
  for (const auto& [package, node] : table) {
    const std::string name(package.str()), at = TomlTable(table, file, "").at(&node);
    if (!is_package_name(name) || !node.is_table())
      throw Error(ErrorCode::Invalid, fmt::format("\"{}\" must be a table with answers for a package", printable(name)),
                  at, "write [saltdb] and below it lines such as listen = \"127.0.0.1\"");
    for (const auto& [key, value] : *node.as_table()) {
      const auto answer = answer_in(value);
      const std::string where = TomlTable(table, file, "").at(&value);
      if (!answer)
        throw Error(ErrorCode::Invalid, fmt::format("{} must be a text, a whole number, true or false", key.str()),
                    where);
      all[name][std::string(key.str())] = {*answer, where};
    }
  }
  return all;
}

void read_answers(TomlTable& table, const std::string& file, Settings& settings) {
  const toml::node* const node = table.find("answers");
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong("answers", "tables of answers, such as [answers.saltdb]", node);
  settings.answers = answers_in(*node->as_table(), file);
}

void read_service_commands(TomlTable& given, ServiceRules& rules) {
  const toml::node* const node = given.find("commands");
  if (rules.manager == "commands" && node == nullptr)
    given.wrong("commands", "a table with start and stop, as manager = \"commands\" needs it", node);
  if (node == nullptr) return;
  if (!node->is_table()) given.wrong("commands", "a table with start, stop, restart, reload, status", node);
  TomlTable commands = given.below(*node->as_table(), "services.commands");
  const auto words = [&](const char* key, std::vector<std::string>& into) {
    for (const auto& [word, at] : commands.texts(key)) into.push_back(word);
    if (!into.empty() && !into[0].starts_with('/'))
      commands.wrong(key, R"(a list of words, the first an absolute path: ["/usr/sbin/service", "{service}", "start"])",
                     commands.find(key));
  };
  words("start", rules.start);
  words("stop", rules.stop);
  words("restart", rules.restart);
  words("reload", rules.reload);
  words("status", rules.status);
  commands.done();
  if (rules.start.empty() || rules.stop.empty())
    given.wrong("commands", "a table with start and stop, at the least", node);
}

void read_services(TomlTable& table, const std::string& file, ServiceRules& rules) {
  const toml::node* const node = table.find("services");
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong("services", "a table with manager, failed, directory, commands", node);
  TomlTable given(*node->as_table(), file, "services");
  if (const std::string manager = given.text("manager", false); !manager.empty()) {
    const std::set<std::string> known{"auto", "systemd", "runit", "sysv", "commands", "none"};
    if (!known.contains(manager))
      given.wrong("manager", R"("auto" (the default), "systemd", "runit", "sysv", "commands" or "none")",
                  given.find("manager"));
    rules.manager = manager;
  }
  const std::string failed = given.text("failed", false);
  if (!failed.empty() && failed != "tell" && failed != "undo")
    given.wrong("failed", R"("tell" (the default) or "undo")", given.find("failed"));
  rules.undoes = failed == "undo";
  rules.directory = given.text("directory", false);
  if (rules.directory.starts_with('/')) rules.directory.erase(0, 1);
  if (!rules.directory.empty() && !path_problem(rules.directory).empty())
    given.wrong("directory", "a path such as \"/etc/service\"", given.find("directory"));
  read_service_commands(given, rules);
  given.done();
}

void read_accounts(TomlTable& table, const std::string& file, Settings& settings) {
  const toml::node* const node = table.find("accounts");
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong("accounts", "a table with range", node);
  TomlTable given(*node->as_table(), file, "accounts");
  if (const toml::node* const range = given.find("range"); range != nullptr) {
    const toml::array* const ends = range->as_array();
    const auto end = [&](std::size_t i) {
      const auto value = ends == nullptr || ends->size() != 2 ? std::nullopt : (*ends)[i].value_exact<std::int64_t>();
      if (!value || *value < 1 || *value > 65533)
        given.wrong("range", "two numbers from 1 to 65533: [200, 999]", range);
      return static_cast<std::uint32_t>(*value);
    };
    settings.account_ids = {end(0), end(1)};
    if (settings.account_ids.first > settings.account_ids.second)
      given.wrong("range", "a lower and a higher number", range);
  }
  given.done();
}

void read_protect(TomlTable& table, const std::string& file, Settings& settings) {
  const toml::node* const node = table.find("protect");
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong("protect", "a table with names", node);
  TomlTable given(*node->as_table(), file, "protect");
  for (const auto& [name, at] : given.texts("names")) {
    if (!is_package_name(name))
      throw Error(ErrorCode::Invalid, fmt::format("\"{}\" is not a package name", printable(name)), at,
                  "lower-case letters, digits and + . _ -");
    settings.protects.insert(name);
  }
  given.done();
}

void read_licenses(TomlTable& table, const std::string& file, Settings& settings) {
  const toml::node* const node = table.find("licenses");
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong("licenses", "a table with refuse", node);
  TomlTable given(*node->as_table(), file, "licenses");
  for (const auto& [pattern, at] : given.texts("refuse")) {
    if (pattern.empty() || pattern.find(' ') != std::string::npos)
      throw Error(ErrorCode::Invalid, fmt::format("\"{}\" is not the id of a license", printable(pattern)), at,
                  "for example refuse = [\"AGPL-*\"]: ids of the SPDX list, or globs of them");
    settings.refused_licenses.push_back(pattern);
  }
  given.done();
}

void read_files(TomlTable& table, const std::string& file, Settings& settings) {
  const toml::node* const node = table.find("files");
  if (node == nullptr) return;
  if (!node->is_table()) table.wrong("files", "a table with unsigned", node);
  TomlTable given(*node->as_table(), file, "files");
  const std::string choice = given.text("unsigned", false);
  if (!choice.empty() && choice != "ask" && choice != "allow")
    given.wrong("unsigned", R"("ask" (the default) or "allow")", given.find("unsigned"));
  settings.accepts_unsigned_files = choice == "allow";
  given.done();
}

}  // namespace

Settings load_settings(os::FileReader& root, const std::string& config_path, const std::string& machine_arch) {
  Settings settings;
  settings.architectures = {machine_arch};
  if (!root.stat_followed(config_path)) return settings;
  const std::string shown = root.shown(config_path);
  const toml::table whole = parse_toml(root.read_all(config_path, kMostSettingsBytes), shown);
  TomlTable table(whole, shown, "");
  const auto check_arch = [&](const std::string& arch, const char* key) {
    if (!is_architecture(arch) || arch == kIndependent)
      table.wrong(key, "a machine architecture such as x86_64", table.find(key));
  };
  if (const std::string arch = table.text("arch", false); !arch.empty()) {
    check_arch(arch, "arch");
    settings.architectures = {arch};
  }
  for (const auto& [arch, at] : table.texts("more_archs")) {
    check_arch(arch, "more_archs");
    if (arch != settings.architectures.front()) settings.architectures.push_back(arch);
  }
  read_follow(table, settings);
  read_limits(table, shown, "attic", "a table with transactions, days, mebibytes",
              {{"transactions", &settings.attic_transactions},
               {"days", &settings.attic_days},
               {"mebibytes", &settings.attic_mebibytes}});
  read_limits(table, shown, "cache", "a table with versions, days, mebibytes",
              {{"versions", &settings.cache_versions},
               {"days", &settings.cache_days},
               {"mebibytes", &settings.cache_mebibytes}});
  read_fetch(table, shown, settings.fetch);
  read_hooks(table, shown, settings.hooks);
  read_services(table, shown, settings.services);
  read_build(table, shown, settings.build);
  read_answers(table, shown, settings);
  read_accounts(table, shown, settings);
  read_files(table, shown, settings);
  read_protect(table, shown, settings);
  read_licenses(table, shown, settings);
  if (const toml::node* const rules = table.find("configs"); rules != nullptr) {
    if (!rules->is_array_of_tables()) table.wrong("configs", "[[configs]] tables with paths and choice", rules);
    for (const toml::node& item : *rules->as_array())
      read_rule(TomlTable(*item.as_table(), shown, "configs"), settings);
  }
  settings.refreshes_by_itself = table.find("max_age") != nullptr;
  settings.max_age = static_cast<unsigned>(table.number("max_age", 0, 3650, settings.max_age));
  settings.refreshes_by_itself = settings.refreshes_by_itself && settings.max_age > 0;
  settings.budget = static_cast<unsigned>(table.number("budget", 1, 3600, settings.budget));
  settings.downloads = static_cast<unsigned>(table.number("downloads", 1, 32, settings.downloads));
  table.done();
  return settings;
}

Answers load_answers(os::FileReader& files, const std::string& path, const std::string& shown) {
  if (!files.stat_followed(path)) throw Error(ErrorCode::NotFound, "the file of answers does not exist", shown);
  return answers_in(parse_toml(files.read_all(path, kMostSettingsBytes), shown), shown);
}

}  // namespace hambrel::settings
