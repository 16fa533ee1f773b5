#include <fmt/format.h>

#include "base/error.h"
#include "base/toml_table.h"
#include "model/manifest.h"

namespace hambrel {

namespace {

constexpr const char* kNameExpected = "a package name: lower-case letters, digits and + . _ -";

/// What a table says, or where it is left out what another one says for it.
std::string text_or(TomlTable& table, std::string_view key, const std::string& otherwise, std::string_view expected) {
  const std::string text = table.text(key, otherwise.empty(), expected);
  return text.empty() ? otherwise : text;
}

void read_package(TomlTable& table, Package& package, const Package& usual) {
  package.name = text_or(table, "name", usual.name, kNameExpected);
  if (!is_package_name(package.name)) table.wrong("name", kNameExpected, table.find("name"));
  const auto version =
      Version::parse(text_or(table, "version", usual.version.text(), "a version, [EPOCH:]UPSTREAM[-REVISION]"));
  if (!version) table.wrong("version", "a version, [EPOCH:]UPSTREAM[-REVISION], such as 2.1-3", table.find("version"));
  package.version = *version;
  const char* const expected_arch = "an architecture such as x86_64, or independent";
  package.arch = text_or(table, "arch", usual.arch, expected_arch);
  if (!is_architecture(package.arch) || package.arch == "any") table.wrong("arch", expected_arch, table.find("arch"));
  package.summary = text_or(table, "summary", usual.summary, "one line that says what it is");
  if (package.summary.find('\n') != std::string::npos || package.summary.size() > 200)
    table.wrong("summary", "one line of at most 200 bytes", table.find("summary"));
  for (const auto member : {&Package::description, &Package::license, &Package::homepage, &Package::maintainer,
                            &Package::category, &Package::source})
    package.*member = usual.*member;
  const auto optional = [&](const char* key, std::string& value) {
    if (table.find(key) != nullptr) value = table.text(key, false);
  };
  optional("description", package.description);
  optional("license", package.license);
  optional("homepage", package.homepage);
  optional("maintainer", package.maintainer);
  optional("category", package.category);
  optional("source", package.source);
  package.restart = table.text("restart", false);
  if (!package.restart.empty() && package.restart != "system" && package.restart != "session")
    table.wrong("restart", "\"system\" or \"session\"", table.find("restart"));
  package.essential = table.flag("essential", false);
  package.parallel = static_cast<std::uint32_t>(table.number("parallel", 1, 100, 1));
}

template <typename Value, typename Parse>
std::vector<Value> read_relations(TomlTable& table, std::string_view key, Parse parse) {
  std::vector<Value> result;
  for (const auto& [text, at] : table.texts(key)) result.push_back(parse(text, at));
  return result;
}

void read_relations(TomlTable table, Package& package) {
  package.requires_ = read_relations<Relation>(table, "requires", parse_relation);
  package.recommends = read_relations<Relation>(table, "recommends", parse_relation);
  package.suggests = read_relations<Relation>(table, "suggests", parse_relation);
  package.conflicts = read_relations<Constraint>(table, "conflicts", parse_constraint);
  package.provides = read_relations<Constraint>(table, "provides", parse_constraint);
  package.replaces = read_relations<Constraint>(table, "replaces", parse_constraint);
  for (const Constraint& one : package.provides)
    if (one.op != Operator::Any && one.op != Operator::Equal)
      table.wrong("provides", "a list of NAME or NAME = VERSION", table.find("provides"));
  table.done();
}

FileAttributes read_attributes(TomlTable table) {
  FileAttributes result;
  result.glob = table.text("files", true, "a glob of paths such as var/lib/tide/**");
  if (result.glob.starts_with("/"))
    throw Error(ErrorCode::Invalid, "attributes.files must be relative to the root", table.at(table.find("files")),
                "leave out the leading /");
  result.user = table.text("user", false);
  result.group = table.text("group", false);
  const std::string mode = table.text("mode", false, "an octal text such as \"4755\"");
  if (!mode.empty()) {
    if (mode.size() > 4 || mode.find_first_not_of("01234567") != std::string::npos)
      table.wrong("mode", "an octal text such as \"4755\"", table.find("mode"));
    result.mode = std::stoi(mode, nullptr, 8);
  }
  table.done();
  return result;
}

}  // namespace

PackageSource parse_package_toml(std::string_view text, const std::string& file) {
  const toml::table whole = parse_toml(text, file);
  TomlTable top(whole, file, "");
  if (const toml::node* const old = top.find("package"); old != nullptr)
    throw Error(ErrorCode::Invalid, "there is no table [package]: its keys stand at the top of the file", top.at(old),
                "remove this line");
  return read_package_source(top, file, {});
}

PackageSource read_package_source(TomlTable& top, const std::string& file, const Package& usual) {
  PackageSource source;
  const auto section = [&](const char* key) -> const toml::table* {
    const toml::node* node = top.find(key);
    if (node == nullptr) return nullptr;
    if (!node->is_table()) throw Error(ErrorCode::Invalid, fmt::format("{} must be a table", key), top.at(node));
    return node->as_table();
  };
  read_package(top, source.package, usual);
  if (const toml::table* relations = section("relations"))
    read_relations(TomlTable(*relations, file, "relations"), source.package);
  if (const toml::table* config = section("config")) {
    TomlTable table(*config, file, "config");
    for (const auto& [glob, at] : table.texts("files")) {
      if (glob.starts_with("/"))
        throw Error(ErrorCode::Invalid, "config.files must be relative to the root", at, "leave out the leading /");
      source.package.config_globs.push_back(glob);
    }
    table.done();
  }
  if (const toml::node* list = top.find("attributes"); list != nullptr) {
    if (!list->is_array_of_tables())
      throw Error(ErrorCode::Invalid, "attributes must be written as [[attributes]] tables", top.at(list));
    for (const toml::node& item : *list->as_array())
      source.attributes.push_back(read_attributes(TomlTable(*item.as_table(), file, "attributes")));
  }
  Actions actions = read_actions(top);
  source.package.features = features_of(actions);
  if (!actions.empty()) source.package.actions = std::make_shared<const Actions>(std::move(actions));
  top.done();
  return source;
}

}  // namespace hambrel
