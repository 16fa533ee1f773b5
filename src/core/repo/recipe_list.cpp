#include "repo/recipe_list.h"

#include "base/error.h"
#include "base/json.h"
#include "model/package.h"
#include "repo/notes.h"

namespace hambrel::repo {

namespace {

Digest digest_of(const JsonObject& object, const char* key) {
  const auto digest = Digest::from_hex(object.text(key));
  if (!digest) object.wrong(key, "a SHA-256");
  return *digest;
}

}  // namespace

std::vector<OfferedRecipe> parse_recipe_list(std::string_view text, const std::string& where) {
  const Json whole = parse_json(text, where);
  if (!whole.is_array()) throw Error(ErrorCode::Invalid, "must be a list of recipes", where);
  std::vector<OfferedRecipe> recipes;
  for (const Json& one : whole) {
    const JsonObject object(one, where);
    OfferedRecipe recipe;
    recipe.name = object.text("name");
    if (!is_package_name(recipe.name)) object.wrong("name", "a package name");
    recipe.version = object.text("version");
    if (!Version::parse(recipe.version)) object.wrong("version", "a version");
    recipe.summary = object.text_or("summary", "");
    recipe.license = object.text_or("license", "");
    recipe.packages = object.texts_or_none("packages");
    if (object.has("options"))
      for (const auto& [name, value] : object.member("options").items()) {
        if (!value.is_string()) object.wrong("options", "an object of texts");
        recipe.options.emplace(name, value.get<std::string>());
      }
    recipe.digest = digest_of(object, "digest");
    recipe.archive = object.text("archive");
    if (!path_problem(recipe.archive).empty()) object.wrong("archive", "a path below the repository");
    recipe.size = object.number("size");
    recipe.archive_digest = digest_of(object, "sha256");
    recipes.push_back(std::move(recipe));
  }
  return recipes;
}

std::string recipe_list_text(const std::vector<OfferedRecipe>& recipes) {
  if (recipes.empty()) return {};
  Json list = Json::array();
  for (const OfferedRecipe& one : recipes)
    list.push_back({{"name", one.name},
                    {"version", one.version},
                    {"summary", one.summary},
                    {"license", one.license},
                    {"packages", one.packages},
                    {"options", one.options},
                    {"digest", one.digest.hex()},
                    {"archive", one.archive},
                    {"size", one.size},
                    {"sha256", one.archive_digest.hex()}});
  return canonical(list) + "\n";
}

std::vector<OfferedRecipe> recipes_of(os::FileReader& root, const settings::Repository& repository) {
  const auto source = read_source(root, repository);
  if (!source || !source->recipes) return {};
  return parse_recipe_list(text_in_cache(root, repository.name, *source->recipes), root.shown(kIndexCache));
}

}  // namespace hambrel::repo
