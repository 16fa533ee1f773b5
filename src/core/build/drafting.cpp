#include "build/drafting.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "archive/found_relations.h"
#include "archive/source_archive.h"
#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::build {

namespace {

constexpr std::uint64_t kMostLicenseBytes = 256 << 10;

/// "salt-db-2.1-src.tar.gz" is salt-db 2.1.
std::pair<std::string, std::string> name_and_version(std::string file) {
  for (const char* const end : {".tar.gz", ".tar.xz", ".tar.bz2", ".tar.zst", ".tgz", ".tar", ".zip", ".orig"})
    if (file.ends_with(end)) file.resize(file.size() - std::string_view(end).size());
  std::string name = file, version = "1";
  for (std::size_t at = 0; (at = file.find_first_of("-_", at)) != std::string::npos; ++at) {
    if (at + 1 >= file.size() || file[at + 1] < '0' || file[at + 1] > '9') continue;
    name = file.substr(0, at);
    version = file.substr(at + 1, file.find_first_of("-_", at + 1) - at - 1);
    break;
  }
  name = lower(name);
  std::replace_if(
      name.begin(), name.end(), [](char c) { return !is_package_name(std::string("a") + c); }, '-');
  if (!is_package_name(name)) name = "unnamed";
  if (!Version::parse(version)) version = "1";
  return {name, version};
}

/// By words that only one of them has.
std::string license_in(const std::string& text) {
  constexpr std::array<std::pair<const char*, const char*>, 9> kWords{
      {{"GNU AFFERO GENERAL PUBLIC LICENSE", "AGPL-3.0-or-later"},
       {"GNU LESSER GENERAL PUBLIC LICENSE", "LGPL-2.1-or-later"},
       {"GNU GENERAL PUBLIC LICENSE\n                       Version 3", "GPL-3.0-or-later"},
       {"GNU GENERAL PUBLIC LICENSE", "GPL-2.0-or-later"},
       {"Apache License", "Apache-2.0"},
       {"Mozilla Public License", "MPL-2.0"},
       {"Permission is hereby granted, free of charge", "MIT"},
       {"Neither the name", "BSD-3-Clause"},
       {"Redistribution and use in source and binary forms", "BSD-2-Clause"}}};
  for (const auto& [words, id] : kWords)
    if (text.find(words) != std::string::npos) return id;
  return {};
}

/// What is said of the files of a tree.
class Survey {
 public:
  explicit Survey(os::FileReader& files) : files_(files) { walk(""); }

  std::string license;
  std::vector<std::string> license_files, configuration, privileged, above_usr;
  bool runs_here = false;  // has programs or libraries of a machine

 private:
  void walk(const std::string& directory) {
    for (const std::string& name : files_.list(directory)) {
      const std::string path = os::join_path(directory, name);
      const auto info = files_.stat(path);
      if (!info) continue;
      if (info->type == os::FileType::Directory) {
        walk(path);
        continue;
      }
      if (info->type == os::FileType::Regular) look_at(path, name, *info);
    }
  }

  void look_at(const std::string& path, const std::string& name, const os::FileInfo& info) {
    constexpr std::uint32_t kSetId = 06000;
    if ((info.mode & kSetId) != 0) privileged.push_back(path);
    if (path.starts_with("etc/")) configuration.push_back(path);
    if (path.starts_with("usr/local/") || path.starts_with("home/")) above_usr.push_back(path);
    const std::string low = lower(name);
    if (low.starts_with("license") || low.starts_with("licence") || low.starts_with("copying")) {
      license_files.push_back(path);
      if (license.empty() && info.size <= kMostLicenseBytes)
        license = license_in(files_.read_all(path, kMostLicenseBytes));
    }
    std::string begin(4, '\0');
    begin.resize(files_.open_itself(path)->read_at(0, std::as_writable_bytes(std::span(begin))));
    runs_here = runs_here || begin ==
                                 "\x7f"
                                 "ELF";
  }

  os::FileReader& files_;
};

void copy_all(os::FileReader& from, const std::string& path, os::FileSystem& to, const std::string& there) {
  const auto info = from.stat(path);
  if (!info) return;
  if (info->type == os::FileType::Symlink) return to.make_symlink(from.read_link(path), there);
  if (info->type == os::FileType::Directory) {
    to.make_directories(there);
    for (const std::string& name : from.list(path)) copy_all(from, os::join_path(path, name), to, there + "/" + name);
    return;
  }
  if (info->type != os::FileType::Regular) return;
  const auto source = from.open_itself(path);
  const auto file = to.create(there, 0600);
  os::copy_content(*source, *file, from.shown(path));
  os::Metadata metadata;
  metadata.mode = info->mode;
  metadata.mtime = info->mtime_seconds;
  file->finish(metadata);
}

/// How sources of that kind are usually built.
struct BuildSystem {
  const char *file, *tools, *steps;
};
constexpr std::array<BuildSystem, 6> kSystems{
    {{"CMakeLists.txt", "\"c-compiler\", \"cxx-compiler\", \"cmake\", \"make\"",
      "configure = [[\"cmake\", \"-B\", \"out\", \"-DCMAKE_BUILD_TYPE=Release\", \"-DCMAKE_INSTALL_PREFIX={prefix}\", "
      "\"-DCMAKE_INSTALL_LIBDIR=lib\"]]\nbuild = [[\"cmake\", \"--build\", \"out\", \"-j\", \"{jobs}\"]]\n"
      "install = [[\"env\", \"DESTDIR={stage}\", \"cmake\", \"--install\", \"out\"]]\n"},
     {"meson.build", "\"c-compiler\", \"meson\", \"ninja\"",
      "configure = [[\"meson\", \"setup\", \"out\", \"--prefix={prefix}\", \"--libdir=lib\", "
      "\"--buildtype=release\"]]\n"
      "build = [[\"ninja\", \"-C\", \"out\", \"-j\", \"{jobs}\"]]\ncheck = [[\"ninja\", \"-C\", \"out\", \"test\"]]\n"
      "install = [[\"env\", \"DESTDIR={stage}\", \"ninja\", \"-C\", \"out\", \"install\"]]\n"},
     {"configure", "\"c-compiler\", \"make\"",
      "configure = [[\"./configure\", \"--prefix={prefix}\"]]\nbuild = [[\"make\", \"-j{jobs}\"]]\n"
      "check = [[\"make\", \"check\"]]\ninstall = [[\"make\", \"install\", \"DESTDIR={stage}\"]]\n"},
     {"Makefile", "\"c-compiler\", \"make\"",
      "build = [[\"make\", \"-j{jobs}\"]]\n"
      "install = [[\"make\", \"install\", \"DESTDIR={stage}\", \"PREFIX={prefix}\"]]\n"},
     {"setup.py", "\"python3\"",
      "build = [[\"python3\", \"setup.py\", \"build\"]]\n"
      "install = [[\"python3\", \"setup.py\", \"install\", \"--root={stage}\", \"--prefix={prefix}\"]]\n"},
     {"package.json", "\"nodejs\"",
      "install = \"\"\"\ninstall -d {stage}{prefix}/lib/node_modules/{name}\n"
      "cp -r . {stage}{prefix}/lib/node_modules/{name}\n\"\"\"\n"}}};

bool is_tree_of_system(os::FileReader& files) {
  const auto names = files.list("");
  constexpr std::array<std::string_view, 9> kTops{"usr", "etc", "bin", "sbin", "lib", "lib64", "opt", "var", "srv"};
  return !names.empty() && std::all_of(names.begin(), names.end(), [&](const std::string& name) {
    return std::find(kTops.begin(), kTops.end(), name) != kTops.end();
  });
}

std::string quoted_list(const std::vector<std::string>& texts) {
  std::string list;
  for (const std::string& one : texts) list += fmt::format("{}\"{}\"", list.empty() ? "" : ", ", printable(one));
  return "[" + list + "]";
}

std::string or_todo(const std::string& text) { return text.empty() ? "TODO" : text; }

/// package.toml of a tree as it lies on a system.
std::string package_text(os::FileReader& files, Draft& draft, const Survey& survey, const std::string& machine) {
  std::string text = fmt::format(
      "# A draft of `hambrel pack --from`: look at every line, then run `hambrel pack {}`.\nname = \"{}\"\nversion = "
      "\"{}-1\"\narch = \"{}\"\nsummary = \"TODO: one line that says what it is\"\nlicense = \"{}\"\n",
      draft.folder, draft.name, draft.version, survey.runs_here ? machine : kIndependent, or_todo(survey.license));
  const archive::FoundRelations found = archive::find_relations(files, "");
  std::vector<std::string> provides, needs;
  for (const Constraint& one : found.provides) provides.push_back(one.text());
  for (const archive::FoundNeed& one : found.needs)
    if (one.kind != archive::FoundNeed::Kind::Link) needs.push_back(one.text);
  if (!provides.empty() || !needs.empty()) text += "\n[relations]\n";
  if (!provides.empty()) text += fmt::format("provides = {}\n", quoted_list(provides));
  if (!needs.empty())
    text += fmt::format("# its programs need {}: name the packages that bring that\nrequires = []\n",
                        printable(join(needs, ", ")));
  if (!survey.configuration.empty())
    text += fmt::format("\n[config]\n# leave out what nobody edits\nfiles = {}\n", quoted_list(survey.configuration));
  for (const std::string& path : survey.privileged)
    draft.remarks.push_back(fmt::format("/{} runs with the rights of its owner (set-id): is that needed?", path));
  if (!survey.above_usr.empty())
    draft.remarks.push_back(
        fmt::format("packages put their files below /usr, not into {}", first_of({"/" + survey.above_usr.front()}, 1)));
  return text;
}

/// recipe.toml of sources. `file`: what it calls them, beside it.
std::string recipe_text(os::FileReader& files, Draft& draft, const Survey& survey, const std::string& file,
                        const std::string& digest) {
  const auto names = files.list("");
  const BuildSystem* system = nullptr;
  for (const BuildSystem& one : kSystems)
    if (system == nullptr && std::find(names.begin(), names.end(), one.file) != names.end()) system = &one;
  if (system == nullptr)
    draft.remarks.emplace_back("how it is built could not be seen: write [steps] yourself");
  else
    draft.remarks.push_back(fmt::format("it has {}: [steps] are those that are usual with that", system->file));
  std::string text = fmt::format(
      "# A draft of `hambrel pack --from`: look at every line, then run `hambrel recipe check {0}` and `hambrel build "
      "{0}`.\n[recipe]\nname = \"{1}\"\nversion = \"{2}\"\nsummary = \"TODO: one line that says what it is\"\nlicense "
      "= "
      "\"{3}\"\n\n[[sources]]\n# better: url = \"https://...\", so that others can have it, too\nfile = \"{4}\"\n",
      draft.folder, draft.name, draft.version, or_todo(survey.license), printable(file));
  if (!digest.empty()) text += fmt::format("sha256 = \"{}\"\n", digest);
  text += fmt::format("\n[needs]\ntools = [{}]\n\n[steps]\n{}", system == nullptr ? "\"sh\"" : system->tools,
                      system == nullptr ? "install = \"echo TODO: install into {stage} >&2; false\"\n" : system->steps);
  return text;
}

}  // namespace

Draft make_draft(operations::Root& root, const std::string& from, const std::string& into) {
  const auto host = os::open_file_system("/");
  const std::string path = os::host_path(from);
  const auto info = host->stat_followed(path);
  if (!info) throw Error(ErrorCode::NotFound, "there is no such directory or archive", from, "check the path");
  Draft draft;
  const std::string file(os::name_of(path));
  std::tie(draft.name, draft.version) = name_and_version(file);
  draft.folder = into.empty() ? draft.name : into;
  const std::string folder = os::host_path(draft.folder);
  if (host->stat(folder))
    throw Error(ErrorCode::Refused, "is there already", draft.folder, "name another folder with -o, or move it away");
  Workshop workshop(root);
  Bench bench(workshop, "draft");
  const std::string apart = bench.work() + "/" + "tree";
  const bool is_archive = info->type == os::FileType::Regular;
  std::string top = "/" + path;
  if (is_archive) {
    workshop.files().make_directory(apart, 0700);
    const auto place = os::open_file_system(workshop.on_host(apart));
    archive::unpack(*host->open(path), *place, {}, from);
    const auto names = place->list("");
    const bool is_one = names.size() == 1 && place->stat_present(names[0]).type == os::FileType::Directory;
    top = workshop.on_host(apart) + (is_one && !is_tree_of_system(*place) ? "/" + names[0] : "");
  }
  const auto tree = os::open_file_system(top);
  const Survey survey(*tree);
  host->make_directories(folder);
  const auto made = os::open_file_system("/" + folder);
  if (!survey.license_files.empty())
    draft.remarks.push_back(fmt::format("its license is in {}{}", printable(first_of(survey.license_files, 3)),
                                        survey.license.empty() ? "" : ", which looks like " + survey.license));
  if (is_tree_of_system(*tree)) {
    made->replace_cache("package.toml", package_text(*tree, draft, survey, root.settings().architectures.front()),
                        0644);
    copy_all(*tree, "", *made, "root");
    return draft;
  }
  draft.kind = Draft::Kind::Recipe;
  const std::string beside = is_archive ? file : "src";
  copy_all(is_archive ? static_cast<os::FileReader&>(*host) : *tree, is_archive ? path : "", *made, beside);
  const std::string digest = is_archive ? made->digest(beside).hex() : "";
  made->replace_cache(kRecipeFile, recipe_text(*tree, draft, survey, beside, digest), 0644);
  return draft;
}

}  // namespace hambrel::build
