#include "build/recipe.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "base/toml_table.h"
#include "build/placeholders.h"

namespace hambrel::build {

namespace {

/// A relative path without ways out of its directory.
bool is_inside(const std::string& path) { return path_problem(path).empty(); }

std::string inside(TomlTable& table, const char* key, const char* expected) {
  std::string path = table.text(key, false);
  if (!path.empty() && !is_inside(path)) table.wrong(key, expected, table.find(key));
  return path;
}

const toml::table* table_in(TomlTable& table, const char* key, const char* expected) {
  const toml::node* const node = table.find(key);
  if (node == nullptr) return nullptr;
  if (!node->is_table()) table.wrong(key, expected, node);
  return node->as_table();
}

std::vector<const toml::table*> tables_in(TomlTable& table, const char* key) {
  std::vector<const toml::table*> tables;
  const toml::node* const node = table.find(key);
  if (node == nullptr) return tables;
  if (!node->is_array_of_tables()) table.wrong(key, fmt::format("written as [[{}]] tables", key), node);
  for (const toml::node& one : *node->as_array()) tables.push_back(one.as_table());
  return tables;
}

std::vector<Relation> relations_in(TomlTable& table, const char* key) {
  std::vector<Relation> relations;
  for (const auto& [text, at] : table.texts(key)) relations.push_back(parse_relation(text, at));
  return relations;
}

Source read_source(TomlTable table) {
  Source source;
  source.at = table.at(nullptr);
  source.url = table.text("url", false);
  source.file = inside(table, "file", "a path beside recipe.toml, without ..");
  if (source.url.empty() == source.file.empty()) table.wrong("url", "there, or `file`, one of them", nullptr);
  if (!source.url.empty() && !source.url.starts_with("https://") && !source.url.starts_with("http://") &&
      !source.url.starts_with("file:///"))
    table.wrong("url", "a URL that begins with https://, http:// or file:///", table.find("url"));
  const std::string digest =
      table.text("sha256", !source.url.empty(), "the SHA-256 of the file, 64 hexadecimal digits");
  if (!digest.empty()) {
    source.digest = Digest::from_hex(digest);
    if (!source.digest) table.wrong("sha256", "64 hexadecimal digits", table.find("sha256"));
  }
  if (const toml::table* const signature = table_in(table, "signature", "a table with url and key")) {
    TomlTable given = table.below(*signature, "sources.signature");
    source.signature_url = given.text("url", true, "the URL of the signature");
    source.key = given.text("key", true, "a file with a public key beside recipe.toml");
    if (!is_inside(source.key)) given.wrong("key", "a file beside recipe.toml, without ..", given.find("key"));
    given.done();
  }
  source.unpack = table.flag("unpack", true);
  source.into = inside(table, "into", "a path below the directory of the sources, without ..");
  for (const auto& [patch, at] : table.texts("patches")) {
    if (!is_inside(patch))
      throw Error(ErrorCode::Invalid, "sources.patches must be files beside recipe.toml, without ..", at);
    source.patches.push_back(patch);
  }
  table.done();
  return source;
}

std::vector<Source> sources_in(TomlTable& table, const std::string& title) {
  std::vector<Source> sources;
  for (const toml::table* const one : tables_in(table, "sources"))
    sources.push_back(read_source(table.below(*one, title)));
  return sources;
}

Needs read_needs(TomlTable& table) { return {relations_in(table, "tools"), relations_in(table, "libraries")}; }

void read_options(TomlTable& top, Recipe& recipe) {
  const toml::table* const all = top.find("options") == nullptr ? nullptr : table_in(top, "options", "a table");
  if (all == nullptr) return;
  for (const auto& [key, node] : *all) {
    const std::string name(key.str());
    if (!is_package_name(name) || !node.is_table())
      throw Error(ErrorCode::Invalid, fmt::format("options.{} must be a table with text and default", printable(name)),
                  top.at(&node), "write [options.sound] and below it text = ... and default = false");
    TomlTable table = top.below(*node.as_table(), "options." + name);
    Option option;
    option.text = table.text("text", true, "what it is for, in a few words");
    option.is_on = table.flag("default", false);
    option.needs = read_needs(table);
    option.sources = sources_in(table, "options." + name + ".sources");
    option.requires_ = relations_in(table, "requires");
    table.done();
    recipe.options.emplace(name, std::move(option));
  }
}

Step read_step(TomlTable& table, const char* key) {
  Step step;
  const toml::node* const node = table.find(key);
  if (node == nullptr) return step;
  step.at = table.at(node);
  if (const auto script = node->value_exact<std::string>()) {
    step.script = *script;
    return step;
  }
  constexpr const char* kExpected = "a script, or a list of command lines such as [[\"make\", \"-j{jobs}\"]]";
  if (!node->is_array()) table.wrong(key, kExpected, node);
  for (const toml::node& line : *node->as_array()) {
    std::vector<std::string> words;
    if (line.is_array())
      for (const toml::node& word : *line.as_array()) {
        const auto text = word.value_exact<std::string>();
        if (!text) table.wrong(key, kExpected, &word);
        words.push_back(*text);
      }
    if (words.empty() || words[0].empty()) table.wrong(key, kExpected, &line);
    step.commands.push_back(std::move(words));
  }
  return step;
}

void read_steps(TomlTable& top, Recipe& recipe) {
  constexpr const char* kExpected = "a table with configure, build, check and install";
  const toml::table* const given = table_in(top, "steps", kExpected);
  if (given == nullptr) top.wrong("steps", kExpected, nullptr);
  TomlTable table = top.below(*given, "steps");
  for (const StepKind kind : kSteps)
    recipe.steps[static_cast<std::size_t>(kind)] = read_step(table, std::string(text_of(kind)).c_str());
  recipe.directory = inside(table, "directory", "a path below the directory of the sources, without ..");
  if (const toml::table* const variables = table_in(table, "environment", "a table of texts"))
    for (const auto& [key, node] : *variables) {
      const auto value = node.value_exact<std::string>();
      if (!value || key.str().empty() || key.str().find('=') != std::string_view::npos)
        table.wrong("environment", "a table of texts, such as CFLAGS = \"-O2\"", &node);
      recipe.environment.emplace(key.str(), *value);
    }
  table.done();
  if (recipe.step(StepKind::Install).empty())
    table.wrong("install", "the command lines that install into {stage}", nullptr);
}

Output read_output(TomlTable table, const std::string& file, const Recipe& recipe, bool is_first) {
  Output output;
  output.at = table.at(nullptr);
  for (const auto& [glob, at] : table.texts("files")) {
    if (glob.starts_with("/"))
      throw Error(ErrorCode::Invalid, "packages.files must be relative to the root", at, "leave out the leading /");
    output.files.push_back(glob);
  }
  if (!is_first && output.files.empty())
    table.wrong("files", "a list of globs, such as usr/include/**; only the first package takes the rest", nullptr);
  for (const auto& [name, at] : table.texts("without")) output.without.insert(name);
  output.only_with = table.text("only-with", false);
  if (!output.only_with.empty() && !recipe.options.contains(output.only_with))
    table.wrong("only-with", "the name of an option", table.find("only-with"));
  Package usual = recipe.usual;
  if (!is_first) usual.name.clear();
  output.package = read_package_source(table, file, usual);
  return output;
}

void read_head(TomlTable& top, Recipe& recipe, const std::string& machine) {
  constexpr const char* kExpected = "a table with name, version, revision, summary";
  const toml::table* const given = table_in(top, "recipe", kExpected);
  if (given == nullptr) top.wrong("recipe", kExpected, nullptr);
  TomlTable table = top.below(*given, "recipe");
  Package& usual = recipe.usual;
  usual.name = table.text("name", true, "a package name: lower-case letters, digits and + . _ -");
  if (!is_package_name(usual.name))
    table.wrong("name", "a package name: lower-case letters, digits and + . _ -", table.find("name"));
  const std::string upstream = table.text("version", true, "the version of the sources, without a revision");
  const auto revision = table.number("revision", 1, 1'000'000, 1);
  const auto version = Version::parse(fmt::format("{}-{}", upstream, revision));
  if (!version || upstream.find('-') != std::string::npos)
    table.wrong("version", "a version without a revision, such as 2.1", table.find("version"));
  usual.version = *version;
  usual.arch = table.text("arch", false);
  if (usual.arch.empty()) usual.arch = machine;
  if (!is_architecture(usual.arch))
    table.wrong("arch", "an architecture such as x86_64, or independent", table.find("arch"));
  usual.summary = table.text("summary", true, "one line that says what it is");
  usual.license = table.text("license", true, "its licence as an SPDX expression, such as MIT");
  usual.description = table.text("description", false);
  usual.homepage = table.text("homepage", false);
  usual.maintainer = table.text("maintainer", false);
  usual.category = table.text("category", false);
  usual.source = usual.name;
  if (const std::string date = table.text("date", false); !date.empty()) {
    recipe.date = parse_date(date);
    if (!recipe.date) table.wrong("date", "a day, YYYY-MM-DD", table.find("date"));
  }
  table.done();
}

/// With {name} and {version} put in: both are of letters that need no quoting.
std::string with_names(std::string_view text, const Recipe& recipe) {
  std::string result(text);
  for (const auto& [key, value] :
       {std::pair("{name}", recipe.name()),
        std::pair("{version}", std::string(recipe.usual.version.text(), 0, recipe.usual.version.text().rfind('-')))})
    for (std::size_t at = 0; (at = result.find(key, at)) != std::string::npos; at += value.size())
      result.replace(at, std::string_view(key).size(), value);
  return result;
}

void require_sense(const Recipe& recipe, const std::string& file) {
  std::set<std::string> names;
  for (const Output& one : recipe.outputs)
    if (!names.insert(one.package.package.name).second)
      throw Error(ErrorCode::Invalid, fmt::format("two packages are called {}", one.package.package.name), one.at,
                  "give each another name");
  bool unpacked = false;
  for (const Source& one : recipe.sources) {
    if (!one.unpack || !one.file.empty()) continue;
    if (unpacked && one.into.empty())
      throw Error(ErrorCode::Invalid, "a further archive needs a directory of its own", one.at,
                  "add into = \"...\", a path below that of the first one");
    unpacked = true;
  }
  if (recipe.sources.empty())
    throw Error(ErrorCode::Invalid, "there are no sources", file, "add [[sources]] with url and sha256, or with file");
  check_placeholders(recipe);
}

}  // namespace

std::string_view text_of(StepKind kind) {
  switch (kind) {
    case StepKind::Configure: return "configure";
    case StepKind::Build: return "build";
    case StepKind::Check: return "check";
    case StepKind::Install: return "install";
  }
  return "";
}

std::string Source::name() const {
  if (!file.empty()) return file;
  const std::string_view path = std::string_view(url).substr(0, url.find_first_of("?#"));
  return std::string(path.substr(path.rfind('/') + 1));
}

Recipe parse_recipe(std::string_view text, const std::string& file, const std::string& machine) {
  Recipe recipe;
  {
    const toml::table whole = parse_toml(text, file);
    TomlTable top(whole, file, "");
    read_head(top, recipe, machine);
  }
  const toml::table whole = parse_toml(with_names(text, recipe), file);
  TomlTable top(whole, file, "");
  read_head(top, recipe, machine);
  recipe.sources = sources_in(top, "sources");
  constexpr const char* kExpected = "a table with tools and libraries";
  if (const toml::table* const needs = table_in(top, "needs", kExpected)) {
    TomlTable table = top.below(*needs, "needs");
    recipe.needs = read_needs(table);
    table.done();
  }
  read_options(top, recipe);
  read_steps(top, recipe);
  for (const toml::table* const one : tables_in(top, "packages"))
    recipe.outputs.push_back(read_output(top.below(*one, "packages"), file, recipe, recipe.outputs.empty()));
  if (recipe.outputs.empty()) {
    Output& only = recipe.outputs.emplace_back();
    only.package.package = recipe.usual;
    only.at = file;
  }
  top.done();
  require_sense(recipe, file);
  return recipe;
}

Switches switches_of(const Recipe& recipe, const std::vector<std::string>& with,
                     const std::vector<std::string>& without) {
  Switches switches;
  for (const auto& [name, option] : recipe.options) switches.emplace(name, option.is_on);
  const auto turn = [&](const std::vector<std::string>& names, bool on) {
    for (const std::string& name : names) {
      if (const auto found = switches.find(name); found != switches.end()) {
        found->second = on;
        continue;
      }
      std::vector<std::string> known;
      for (const auto& [one, option] : recipe.options) known.push_back(one);
      std::string hint = did_you_mean(name, known);
      if (hint.empty()) hint = known.empty() ? "it has none" : "it has " + join(known, ", ");
      throw Error(ErrorCode::Usage, fmt::format("{} has no option {}", recipe.name(), printable(name)), {}, hint);
    }
  };
  turn(with, true);
  turn(without, false);
  return switches;
}

std::string suffix_of(const Recipe& recipe, const Switches& switches) {
  std::string suffix;
  for (const auto& [name, option] : recipe.options) {
    const bool is_on = switches.at(name);
    if (is_on == option.is_on) continue;
    std::string word = (is_on ? "" : "no") + name;
    std::replace(word.begin(), word.end(), '-', '_');
    suffix += (suffix.empty() ? "+" : ".") + word;
  }
  return suffix;
}

std::vector<Source> sources_of(const Recipe& recipe, const Switches& switches) {
  std::vector<Source> all = recipe.sources;
  for (const auto& [name, option] : recipe.options)
    if (switches.at(name)) all.insert(all.end(), option.sources.begin(), option.sources.end());
  return all;
}

Needs needs_of(const Recipe& recipe, const Switches& switches) {
  Needs all = recipe.needs;
  for (const auto& [name, option] : recipe.options) {
    if (!switches.at(name)) continue;
    all.tools.insert(all.tools.end(), option.needs.tools.begin(), option.needs.tools.end());
    all.libraries.insert(all.libraries.end(), option.needs.libraries.begin(), option.needs.libraries.end());
  }
  return all;
}

}  // namespace hambrel::build
