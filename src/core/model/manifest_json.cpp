#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/json_reader.h"
#include "base/text.h"
#include "model/manifest.h"
#include "model/written_relations.h"

namespace hambrel {

namespace {

constexpr std::size_t kMostRelations = 4096;
constexpr std::string_view kMostRelationsText = "a list of at most 4096";

template <typename Value, typename Object, typename Parse>
std::vector<Value> parse_list(const Object& object, std::string_view key, Parse parse) {
  std::vector<Value> result;
  const auto texts = object.texts_or_none(key);
  if (texts.size() > kMostRelations) object.wrong(key, kMostRelationsText);
  for (const std::string& text : texts) result.push_back(parse(text, object.where()));
  return result;
}

template <typename Value>
void put_list(Json& object, const char* key, const std::vector<Value>& values) {
  if (values.empty()) return;
  Json list = Json::array();
  for (const Value& value : values) list.push_back(value.text());
  object[key] = std::move(list);
}

void put_text(Json& object, const char* key, const std::string& text) {
  if (!text.empty()) object[key] = text;
}

void take_text(const JsonObject& object, std::string_view key, std::string& text) { text = object.text_or(key, ""); }
void take_text(const FastObject& object, std::string_view key, std::string& text) { text = object.view_or(key, ""); }

JsonObject named_by(const JsonObject& object, const std::string& name) {
  return object.renamed(fmt::format("{}: {}", object.where(), name));
}
FastObject named_by(const FastObject& object, const std::string& name) { return object.named(name); }

/// One reader for both kinds of objects, of all but the relations. The package may be an old one: each of its other
/// members is written over.
template <typename Object>
void read_package(const Object& unnamed, Package& package) {
  take_text(unnamed, "name", package.name);
  if (!is_installable_name(package.name)) unnamed.wrong("name", "a package name");
  const Object object = named_by(unnamed, package.name);
  auto version = Version::parse(object.text("version"));
  if (!version) object.wrong("version", "a version, [EPOCH:]UPSTREAM[-REVISION]");
  package.version = std::move(*version);
  take_text(object, "arch", package.arch);
  if (!is_architecture(package.arch)) object.wrong("arch", "an architecture");
  take_text(object, "summary", package.summary);
  take_text(object, "description", package.description);
  take_text(object, "license", package.license);
  take_text(object, "homepage", package.homepage);
  take_text(object, "maintainer", package.maintainer);
  take_text(object, "category", package.category);
  take_text(object, "source", package.source);
  package.config_globs = object.texts_or_none("config");
  package.parallel = static_cast<std::uint32_t>(std::clamp<std::uint64_t>(object.number_or("parallel", 1), 1, 100));
  take_text(object, "restart", package.restart);
  package.essential = object.flag_or("essential", false);
  package.features = object.texts_or_none("features");
  package.privileged = object.texts_or_none("privileged");
  package.actions = read_actions(object);
  package.installed_size = object.number("installed_size");
  package.file_count = object.number("file_count");
}

template <typename Object>
void read_relations(Package& package, const Object& object) {
  package.requires_ = parse_list<Relation>(object, "requires", parse_relation);
  package.recommends = parse_list<Relation>(object, "recommends", parse_relation);
  package.suggests = parse_list<Relation>(object, "suggests", parse_relation);
  package.conflicts = parse_list<Constraint>(object, "conflicts", parse_constraint);
  package.provides = parse_list<Constraint>(object, "provides", parse_provided);
  package.replaces = parse_list<Constraint>(object, "replaces", parse_constraint);
}

template <typename Object>
Package whole_package(const Object& object) {
  Package package;
  read_package(object, package);
  read_relations(package, named_by(object, package.name));
  return package;
}

}  // namespace

Package package_from_json(const Json& value, const std::string& where) {
  return whole_package(JsonObject(value, where));
}

Package package_from_json(const FastObject& object) { return whole_package(object); }

void read_without_relations(const FastObject& unnamed, Package& package, WrittenRelations& relations) {
  read_package(unnamed, package);
  const FastObject object = unnamed.named(package.name);
  relations.clear();
  constexpr std::pair<std::string_view, RelationList> kLists[] = {
      {"requires", RelationList::Requires}, {"recommends", RelationList::Recommends},
      {"suggests", RelationList::Suggests}, {"conflicts", RelationList::Conflicts},
      {"provides", RelationList::Provides}, {"replaces", RelationList::Replaces}};
  for (const auto& [key, list] : kLists) {
    std::size_t count = 0;
    object.each_text(key, [&, which = list](std::string_view text) {
      relations.add(which, text);
      ++count;
    });
    if (count > kMostRelations) object.wrong(key, kMostRelationsText);
  }
}

Package parse_manifest(std::string_view text, const std::string& where) {
  return package_from_json(parse_json(text, where), where);
}

Json package_to_json(const Package& package) {
  Json object = {{"name", package.name},
                 {"version", package.version.text()},
                 {"arch", package.arch},
                 {"installed_size", package.installed_size},
                 {"file_count", package.file_count}};
  put_text(object, "summary", package.summary);
  put_text(object, "description", package.description);
  put_text(object, "license", package.license);
  put_text(object, "homepage", package.homepage);
  put_text(object, "maintainer", package.maintainer);
  put_text(object, "category", package.category);
  put_text(object, "source", package.source);
  put_text(object, "restart", package.restart);
  put_list(object, "requires", package.requires_);
  put_list(object, "recommends", package.recommends);
  put_list(object, "suggests", package.suggests);
  put_list(object, "conflicts", package.conflicts);
  put_list(object, "provides", package.provides);
  put_list(object, "replaces", package.replaces);
  if (!package.config_globs.empty()) object["config"] = package.config_globs;
  if (!package.features.empty()) object["features"] = package.features;
  if (!package.privileged.empty()) object["privileged"] = package.privileged;
  if (package.essential) object["essential"] = true;
  if (package.actions) put_actions(object, *package.actions);
  if (package.parallel != 1) object["parallel"] = package.parallel;
  return object;
}

std::string manifest_text(const Package& package) { return canonical(package_to_json(package)); }

std::string unknown_feature(const Package& package) {
  const auto unknown = std::find_if_not(package.features.begin(), package.features.end(), is_known_feature);
  return unknown == package.features.end() ? "" : *unknown;
}

}  // namespace hambrel
