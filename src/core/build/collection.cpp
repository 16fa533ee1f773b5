#include "build/collection.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <optional>
#include <set>

#include "archive/package_writer.h"
#include "base/error.h"
#include "base/merge.h"
#include "base/text.h"
#include "os/host.h"
#include "repo/source.h"
#include "repo/transfer.h"

namespace hambrel::build {

namespace {

constexpr const char* kRecipes = "recipes";
constexpr const char* kArchives = "recipes/archives";
constexpr const char* kIndexes = "index";
constexpr std::uint64_t kMostArchiveBytes = 256ULL << 20;

/// The archive of a folder: a package file, so that everything that reads and checks these can be used.
Digest write_archive(os::FileSystem& repository, const std::string& folder, const Recipe& recipe,
                     const std::string& path) {
  Observer silent;
  PackageSource description;
  description.package.name = recipe.name();
  description.package.version = recipe.usual.version;
  description.package.arch = kIndependent;
  description.package.summary = "recipe";
  archive::WriteOptions options;
  options.latest_mtime = 1;  // the same bytes whenever it was checked out
  const std::string part = path + ".part";
  if (repository.stat(part)) repository.remove_file(part);
  const auto file = repository.create(part, 0644);
  const auto written = archive::write_package(repository, folder, description, *file, options, silent);
  file->sync();
  repository.rename(part, path);
  return written.digest;
}

/// The text files of a folder, by path.
std::map<std::string, std::string> texts_of(os::FileReader& files, const std::string& directory) {
  std::map<std::string, std::string> texts;
  for (const std::string& name : files.list(directory)) {
    const std::string path = os::join_path(directory, name);
    const auto info = files.stat(path);
    if (info && info->type == os::FileType::Directory) texts.merge(texts_of(files, path));
    if (info && info->type == os::FileType::Regular) texts.emplace(path, files.read_itself(path, kMostArchiveBytes));
    if (info && info->type == os::FileType::Symlink) texts.emplace(path, "-> " + files.read_link(path) + "\n");
  }
  return texts;
}

std::string read_place(const Buildable& wanted) {
  return fmt::format("read/{}/{}", wanted.repository.name, wanted.recipe.name);
}

void add_difference(const std::string& path, const std::string& before, const std::string& after,
                    std::vector<std::string>& lines) {
  if (!is_text(before) || !is_text(after)) {
    lines.push_back("  (not text)");
    return;
  }
  for (const DiffLine& one : diff(before, after)) {
    using Kind = DiffLine::Kind;
    const char* mark = "  ";
    if (one.kind == Kind::Gone) mark = "- ";
    if (one.kind == Kind::Come) mark = "+ ";
    if (one.kind == Kind::Hunk)
      lines.push_back("  ...");
    else if (one.kind != Kind::NoNewline)
      lines.push_back(mark + one.text);
  }
  if (lines.empty()) lines.push_back(path);
}

/// What lists of the last publications name, which are still served; nothing: that can't be known, as one is damaged.
std::optional<std::set<std::string>> named_by_served_lists(os::FileSystem& repository) {
  std::set<std::string> named;
  if (!repository.stat(kIndexes)) return named;
  for (const std::string& name : repository.list(kIndexes)) {
    if (!name.starts_with("recipes-")) continue;
    const std::string path = os::join_path(kIndexes, name);
    try {
      const std::string text = repository.read_all(path, kMostArchiveBytes);
      for (const repo::OfferedRecipe& one : repo::parse_recipe_list(text, repository.shown(path)))
        named.insert(one.archive);
    } catch (const Error&) {  // no client can use it; the next publication makes a whole one
      return std::nullopt;
    }
  }
  return named;
}

/// Archives that no list has named for a month. Until then their time is that of the last publication that served a
/// list which did.
void drop_old_archives(os::FileSystem& repository, const std::vector<repo::OfferedRecipe>& list) {
  constexpr std::int64_t kKept = 30LL * 24 * 60 * 60;  // seconds
  if (!repository.stat(kArchives)) return;
  const auto served = named_by_served_lists(repository);
  if (!served) return;
  for (const std::string& name : repository.list(kArchives)) {
    const std::string path = os::join_path(kArchives, name);
    const bool is_named =
        std::any_of(list.begin(), list.end(), [&](const repo::OfferedRecipe& one) { return one.archive == path; });
    const auto info = repository.stat(path);
    if (is_named || !info || info->type != os::FileType::Regular) continue;
    if (served->contains(path))
      repository.set_mtime(path, os::now(), 0);
    else if (info->mtime_seconds < os::now() - kKept)
      repository.remove_file(path);
  }
}

}  // namespace

std::string list_recipes(os::FileSystem& repository, const std::string& machine) {
  std::vector<repo::OfferedRecipe> list;
  if (!repository.stat(kRecipes)) return {};
  for (const std::string& name : repository.list(kRecipes)) {
    const std::string folder = os::join_path(kRecipes, name);
    if (!repository.stat(folder + "/" + kRecipeFile)) continue;
    const RecipeFolder read(repository.real_path(folder), machine);
    const Recipe& recipe = read.recipe();
    repo::OfferedRecipe one;
    one.name = recipe.name();
    one.version = recipe.usual.version.text();
    one.summary = recipe.usual.summary;
    one.license = recipe.usual.license;
    for (const Output& output : recipe.outputs) one.packages.push_back(output.package.package.name);
    for (const auto& [option, what] : recipe.options) one.options.emplace(option, what.text);
    one.digest = read.digest();
    one.archive = fmt::format("{}/{}.hambrel", kArchives, one.digest.hex());
    repository.make_directories(kArchives);
    const bool is_there = repository.stat(one.archive).has_value();
    one.archive_digest =
        is_there ? repository.digest(one.archive) : write_archive(repository, folder, recipe, one.archive);
    one.size = repository.stat_present(one.archive).size;
    list.push_back(std::move(one));
  }
  std::sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
  for (std::size_t i = 1; i < list.size(); ++i)
    if (list[i].name == list[i - 1].name)
      throw Error(ErrorCode::Invalid, fmt::format("two recipes are called {}", list[i].name),
                  repository.shown(kRecipes), "a repository has one recipe of each name");
  drop_old_archives(repository, list);
  return repo::recipe_list_text(list);
}

std::vector<Buildable> buildable(operations::Root& root) {
  std::vector<Buildable> all;
  for (const settings::Repository& one : root.repositories()) {
    if (!one.enabled) continue;
    try {
      const auto source = repo::read_source(root.files(), one);
      for (repo::OfferedRecipe& recipe : repo::recipes_of(root.files(), one))
        all.push_back({one, source && source->root != 0, std::move(recipe)});
    } catch (const Error& problem) {
      root.observer().note(fmt::format("the recipes of {}: {}", one.name, problem.what()));
    }
  }
  std::stable_sort(all.begin(), all.end(), [](const Buildable& a, const Buildable& b) {
    if (a.recipe.name != b.recipe.name) return a.recipe.name < b.recipe.name;
    return order_versions(b.recipe.version, a.recipe.version) < 0;
  });
  return all;
}

std::optional<Buildable> find_buildable(operations::Root& root, const std::string& name) {
  const auto all = buildable(root);
  for (const Buildable& one : all)
    if (one.recipe.name == name) return one;
  for (const Buildable& one : all)
    if (std::find(one.recipe.packages.begin(), one.recipe.packages.end(), name) != one.recipe.packages.end())
      return one;
  return std::nullopt;
}

std::string bring(operations::Root& root, Workshop& workshop, const Buildable& wanted) {
  os::FileSystem& files = workshop.files();
  const std::string folder = "recipes/" + wanted.recipe.digest.hex();
  const std::string& machine = root.settings().architectures.front();
  const auto is_whole = [&](const std::string& path) {
    return files.stat(path + "/" + kRecipeFile) &&
           RecipeFolder(workshop.on_host(path), machine).digest() == wanted.recipe.digest;
  };
  if (is_whole(folder)) return workshop.on_host(folder);
  if (wanted.recipe.size > kMostArchiveBytes)
    throw Error(ErrorCode::Untrusted, "is larger than a recipe may be", wanted.recipe.name,
                "tell the repository's maintainer");
  repo::Request request = root.network().request(wanted.repository, wanted.recipe.archive, wanted.recipe.size);
  const std::string where = fmt::format("the recipe {} of {}", wanted.recipe.name, wanted.repository.name);
  const std::string text = root.network().text(std::move(request));
  if (sha256(text) != wanted.recipe.archive_digest)
    throw Error(ErrorCode::Untrusted, "is not what the repository's list names", where,
                "run `hambrel refresh`; if this persists, tell its maintainer");
  const archive::PackageReader reader(std::make_unique<os::MemoryFile>(text), where);
  const std::string part = fmt::format("{}.{}", folder, os::process_id());
  remove_whole(files, part);
  files.make_directories(part);
  const auto place = os::open_file_system(workshop.on_host(part));
  for (std::size_t i = 0; i < reader.contents().size(); ++i) {
    const archive::Entry entry = reader.contents().entry(i);
    if (entry.type == EntryType::Directory) place->make_directory(entry.path, 0755);
    if (entry.type == EntryType::Symlink) place->make_symlink(entry.target, entry.path);
    if (entry.type != EntryType::File && entry.type != EntryType::HardLink) continue;
    const auto file = place->create(entry.path, entry.mode & 0755U);
    file->write(reader.content(entry));
    file->close();
  }
  if (!is_whole(part))
    throw Error(ErrorCode::Untrusted, "is not what the repository's list describes", where,
                "tell the repository's maintainer");
  remove_whole(files, folder);
  files.rename_no_replace(part, folder);
  return workshop.on_host(folder);
}

Review review_of(Workshop& workshop, const std::string& folder, const Buildable& wanted) {
  Review review;
  const std::string& rule = wanted.repository.review;
  if (rule == "never" && wanted.is_signed) return review;
  os::FileSystem& files = workshop.files();
  const std::string place = read_place(wanted);
  const auto now = texts_of(*os::open_file_system(folder), "");
  std::map<std::string, std::string> before;
  if (files.stat(place)) before = texts_of(*os::open_file_system(workshop.on_host(place)), "");
  review.is_first = before.empty() || rule == "always";
  if (!review.is_first && before == now) return review;
  review.is_needed = true;
  if (review.is_first) before.clear();
  std::map<std::string, std::string> all = now;
  all.insert(before.begin(), before.end());
  for (const auto& [path, content] : all) {
    const auto was = std::as_const(before).find(path), is = now.find(path);
    if (was != before.end() && is != now.end() && was->second == is->second) continue;
    review.lines.push_back(fmt::format("{}{}:", path, is == now.end() ? " (gone)" : ""));
    if (!review.is_first) {
      add_difference(path, was == before.end() ? "" : was->second, is == now.end() ? "" : is->second, review.lines);
    } else if (is_text(content)) {
      for (const std::string_view line : split(content, '\n')) review.lines.push_back("  " + std::string(line));
    } else {
      review.lines.push_back(fmt::format("  (not text, {} bytes)", content.size()));
    }
  }
  return review;
}

void remember(Workshop& workshop, const std::string& folder, const Buildable& wanted) {
  os::FileSystem& files = workshop.files();
  const std::string place = read_place(wanted), part = fmt::format("{}.{}", place, os::process_id());
  remove_whole(files, part);
  files.make_directories(part);
  const auto into = os::open_file_system(workshop.on_host(part));
  for (const auto& [path, content] : texts_of(*os::open_file_system(folder), "")) {
    into->make_directories(os::parent_of(path));
    into->replace_cache(path, content, 0600);
  }
  remove_whole(files, place);
  files.rename_no_replace(part, place);
}

}  // namespace hambrel::build
