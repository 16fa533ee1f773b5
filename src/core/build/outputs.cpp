#include "build/outputs.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/json.h"
#include "base/text.h"

namespace hambrel::build {

namespace {

bool takes(const std::vector<std::string>& globs, std::string_view path) {
  return std::any_of(globs.begin(), globs.end(), [&](const std::string& glob) { return path_glob_match(glob, path); });
}

/// The outputs that are made, and where each gathers its files.
struct Part {
  const Output* output;
  std::string place;  // below the workshop
  Version version;
  std::size_t files = 0;
};

class Splitting {
 public:
  Splitting(os::FileSystem& files, std::vector<Part>& parts) : files_(files), parts_(parts) {}

  void run(const std::string& stage) {
    for (Part& part : parts_) files_.make_directories(part.place);
    walk(stage, "");
  }

 private:
  Part& part_of(const std::string& path) {
    for (Part& part : parts_)
      if (takes(part.output->files, path)) return part;
    return parts_.front();
  }

  void walk(const std::string& directory, const std::string& path) {
    const auto names = files_.list(directory);
    if (names.empty() && !path.empty()) make_directory(part_of(path), path, directory);
    for (const std::string& name : names) {
      const std::string there = directory + "/" + name, below = os::join_path(path, name);
      const auto info = files_.stat(there);
      if (info && info->type == os::FileType::Directory) {
        walk(there, below);
        continue;
      }
      Part& part = part_of(below);
      ++part.files;
      if (!path.empty()) make_directory(part, path, directory);
      files_.rename_no_replace(there, part.place + "/" + below);
    }
  }

  /// With the modes that it and those above it have in the stage.
  void make_directory(Part& part, const std::string& path, const std::string& in_stage) {
    const std::string there = part.place + "/" + path;
    if (files_.stat(there)) return;
    if (const std::string above(os::parent_of(path)); !above.empty())
      make_directory(part, above, std::string(os::parent_of(in_stage)));
    const auto info = files_.stat(in_stage);
    files_.make_directory(there, 0755);
    files_.set_mode(there, info ? info->mode : 0755);
  }

  os::FileSystem& files_;
  std::vector<Part>& parts_;
};

std::string said(const archive::FoundNeed& need) {
  using Kind = archive::FoundNeed::Kind;
  if (need.kind == Kind::Link) return fmt::format("{} is a link to {}", need.by, need.text);
  const char* const kind = need.kind == Kind::PkgConfig ? "the module " : "";
  return fmt::format("{} needs {}{}", need.by, kind, need.text);
}

/// Relations of one package that a machine can see.
class Finding {
 public:
  Finding(os::FileReader& files, const std::vector<archive::FoundRelations>& all, const std::vector<Part>& parts,
          BuildRootPackages& root)
      : files_(files), all_(all), parts_(parts), root_(root) {}

  void add_to(std::size_t number, Package& package, MadePackage& made) const {
    const Output& output = *parts_[number].output;
    for (const Constraint& one : all_[number].provides) {
      if (output.without.contains(one.name) || package.name == one.name) continue;
      made.provides.push_back(one.text());
      if (std::none_of(package.provides.begin(), package.provides.end(),
                       [&](const Constraint& known) { return known.name == one.name; }))
        package.provides.push_back(one);
    }
    for (const archive::FoundNeed& need : all_[number].needs) {
      const std::string relation = relation_for(need);
      if (output.without.contains(need.text) || output.without.contains(relation)) continue;
      const bool says_nothing = need.kind == archive::FoundNeed::Kind::Link && relation.empty();
      if (!says_nothing) made.found.push_back({relation, said(need)});
      if (relation.empty() || relation == package.name) continue;
      const Relation parsed = parse_relation(relation, need.by);
      const bool is_stated =
          std::any_of(package.requires_.begin(), package.requires_.end(), [&](const Relation& known) {
            return std::any_of(known.alternatives.begin(), known.alternatives.end(),
                               [&](const Constraint& one) { return one.name == parsed.alternatives[0].name; });
          });
      if (!is_stated) package.requires_.push_back(parsed);
    }
  }

 private:
  /// Empty: nobody is known who has it.
  std::string relation_for(const archive::FoundNeed& need) const {
    if (const auto constraint = need.constraint()) {
      const bool is_ours = std::any_of(all_.begin(), all_.end(), [&](const archive::FoundRelations& one) {
        return std::any_of(one.provides.begin(), one.provides.end(),
                           [&](const Constraint& provided) { return provided.name == constraint->name; });
      });
      if (is_ours || (root_.provides(*constraint))) return constraint->text();
    }
    using Kind = archive::FoundNeed::Kind;
    if (need.is_path())
      for (const Part& part : parts_)
        if (files_.stat(part.place + need.text)) {
          return fmt::format("{} = {}", part.output->package.package.name, part.version.text());
        }
    if (need.kind == Kind::Link) return {};
    if (need.kind == Kind::Library) return root_.owner_of_library(need.text);
    return need.kind == Kind::Interpreter ? root_.owner_of(need.text) : std::string();
  }

  os::FileReader& files_;
  const std::vector<archive::FoundRelations>& all_;
  const std::vector<Part>& parts_;
  BuildRootPackages& root_;
};

/// The versions of packages that are not made as the recipe has it by itself.
Version with_suffix(const Version& version, const std::string& suffix, const std::string& at) {
  const auto whole = Version::parse(version.text() + suffix);
  if (!whole)
    throw Error(ErrorCode::Invalid, fmt::format("{}{} is too long for a version", version.text(), suffix), at,
                "give its options shorter names");
  return *whole;
}

std::vector<Part> parts_of(const Recipe& recipe, const Switches& switches, const std::string& apart,
                           const std::string& more) {
  std::vector<Part> parts;
  for (const Output& one : recipe.outputs)
    if (one.only_with.empty() || switches.at(one.only_with))
      parts.push_back({&one, apart + "/" + one.package.package.name,
                       with_suffix(one.package.package.version, suffix_of(recipe, switches) + more, one.at)});
  if (parts.empty())
    throw Error(ErrorCode::Invalid, "with these options it makes no package", recipe.outputs.front().at,
                "leave out only-with of one");
  return parts;
}

void require_files(const std::vector<Part>& parts) {
  for (const Part& part : parts) {
    const auto& actions = part.output->package.package.actions;
    if (part.files > 0 || (actions && !actions->empty())) continue;
    const bool is_first = &part == &parts.front();
    throw Error(ErrorCode::Invalid, fmt::format("nothing was installed for {}", part.output->package.package.name),
                part.output->at,
                is_first ? "[steps] install has to put files below {stage}"
                         : "look at its `files`: globs are relative to the root, * stops at /, ** does not");
  }
}

}  // namespace

std::string Origin::text() const {
  Json options = Json::object();
  for (const auto& [name, on] : switches) options[name] = on;
  Json value{{"recipe", recipe.hex()}, {"sources", sources}, {"against", against}};
  if (!options.empty()) value["options"] = std::move(options);
  if (host_tools) value["host_tools"] = true;
  return canonical(value);
}

std::vector<MadePackage> make_packages(Workshop& workshop, const Recipe& recipe, const Switches& switches,
                                       const std::string& stage, const std::string& apart, const Origin& origin,
                                       BuildRootPackages& root, const OutputTerms& terms, Observer& observer) {
  os::FileSystem& files = workshop.files();
  std::vector<Part> parts = parts_of(recipe, switches, apart, terms.more_version);
  Splitting(files, parts).run(stage);
  require_files(parts);
  std::vector<archive::FoundRelations> found;
  for (const Part& part : parts) found.push_back(archive::find_relations(files, part.place));
  const Finding finding(files, found, parts, root);
  std::vector<MadePackage> made;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    PackageSource description = parts[i].output->package;
    Package& package = description.package;
    package.version = parts[i].version;
    MadePackage& one = made.emplace_back();
    finding.add_to(i, package, one);
    if (i == 0)
      for (const auto& [name, option] : recipe.options)
        if (switches.at(name))
          package.requires_.insert(package.requires_.end(), option.requires_.begin(), option.requires_.end());
    operations::PackRequest request;
    request.output =
        fmt::format("{}/{}-{}.{}.hambrel", terms.directory, package.name, package.version.text(), package.arch);
    request.level = terms.level;
    request.keys = terms.keys;
    request.passphrase = terms.passphrase;
    const operations::Packed packed =
        operations::pack_into(request, package, [&](os::WritableFile& file, archive::WriteOptions options) {
          options.latest_mtime = terms.epoch;
          options.built = origin.text();
          return archive::write_package(files, parts[i].place, description, file, options, observer);
        });
    one.package = packed.written.package;
    one.file = packed.file;
    one.size = packed.written.size;
    one.digest = packed.written.digest;
  }
  return made;
}

}  // namespace hambrel::build
