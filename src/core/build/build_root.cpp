#include "build/build_root.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "operations/change.h"
#include "operations/looking.h"
#include "repo/download.h"
#include "repo/source.h"
#include "repo/trusted.h"

namespace hambrel::build {

namespace {

constexpr const char* kNoNeed =
    "add a repository that has it; or build it first, and name its package file with --packages DIR";

using operations::ChangingRoot;
using operations::Proposal;

/// One more name of a file, or a copy where it is on another file system.
void bring(os::FileSystem& from, const std::string& path, os::FileSystem& to, const std::string& there) {
  to.make_directories(os::parent_of(there));
  const auto source = from.open(path);
  const auto info = source->info();
  const auto file = to.create(there, info ? info->mode & 0644U : 0600U);  // credentials stay private
  os::copy_content(*source, *file, path);
  file->close();
}

void bring_tree(os::FileSystem& from, const std::string& path, os::FileSystem& to, const std::string& there) {
  const auto info = from.stat(path);
  if (!info) return;
  if (info->type == os::FileType::Regular) return bring(from, path, to, there);
  if (info->type != os::FileType::Directory) return;
  for (const std::string& name : from.list(path))
    if (name != "private" && !name.starts_with("_")) bring_tree(from, path + "/" + name, to, there + "/" + name);
}

/// An empty system that knows the repositories of another one and what was verified of them.
void make_skeleton(operations::Root& root, os::FileSystem& skeleton) {
  for (const char* const one : {"dev", "proc", "run", "tmp", "etc/hambrel", "var/tmp", "var/cache/hambrel"})
    skeleton.make_directories(one);
  for (const char* const one : {"tmp", "var/tmp"}) skeleton.set_mode(one, 01777);
  os::FileSystem& from = root.files();
  bring_tree(from, "etc/hambrel/repos", skeleton, "etc/hambrel/repos");
  bring_tree(from, repo::kVerified, skeleton, repo::kVerified);
  bring_tree(from, repo::kIndexCache, skeleton, repo::kIndexCache);
}

std::string cached_file(const plan::Step& step) {
  return fmt::format("{}/{}/{}.{}.hambrel", repo::kPackageCache, step.name, step.after, step.arch);
}

/// The newest of the given files that a need can be met with.
std::vector<Spec> specs_of(const std::vector<std::string>& files) {
  std::vector<Spec> specs;
  for (const std::string& file : files) {
    Spec spec;
    spec.kind = Spec::Kind::File;
    spec.text = file;
    specs.push_back(std::move(spec));
  }
  return specs;
}

operations::RootOptions options_for(operations::Root& root, const std::string& path) {
  operations::RootOptions options;
  options.path = path;
  options.settings_file = root.options().settings_file;
  if (options.settings_file.empty() && root.files().stat_followed("etc/hambrel/hambrel.toml"))
    options.settings_file = root.files().real_path("etc/hambrel") + "/hambrel.toml";
  options.command = "build";
  options.trust_compiled = root.options().trust_compiled;
  return options;
}

std::vector<Relation> all_of(const Needs& needs) {
  std::vector<Relation> all = needs.tools;
  all.insert(all.end(), needs.libraries.begin(), needs.libraries.end());
  return all;
}

[[noreturn]] void refuse(operations::Root& skeleton, const operations::Refused& refused) {
  std::vector<std::string> causes;
  for (const auto& cause : refused.refusal.causes) causes.push_back(printable(cause.text(skeleton.universe())));
  const std::string why = "what it needs cannot be had: " + join(causes, "; ");
  std::string hint;
  for (const plan::Remedy& remedy : operations::remedies_for(skeleton, refused).remedies)
    if (remedy.kind == plan::Remedy::Kind::EnableRepository || !remedy.enable.empty())
      hint = fmt::format("hambrel repo enable {} makes it possible (tried out)", remedy.enable);
  if (hint.empty()) hint = kNoNeed;
  throw Error(ErrorCode::Refused, why, {}, hint);
}

/// The build root that is going to be made, in the directory of a build.
class NewRoot {
 public:
  NewRoot(operations::Root& root, Workshop& workshop, Bench& bench, const BuildRootTerms& terms, Observer& observer)
      : main_(root), workshop_(workshop), terms_(terms), place_(bench.directory() + "/root") {
    workshop.files().make_directory(place_, 0755);
    files_ = os::open_file_system(workshop.on_host(place_));
    make_skeleton(root, *files_);
    constexpr unsigned kNoWait = 0;
    root_ = std::make_unique<ChangingRoot>(options_for(root, workshop.on_host(place_)), observer, kNoWait);
  }

  BuildRoot planned(const Needs& needs) {
    operations::ChangeRequest request;
    request.kind = "install";
    request.solve.recommended = false;
    request.weigh_strays = false;
    root_->add_files(specs_of(terms_.package_files));
    for (const Relation& one : all_of(needs)) request.solve.install.push_back({one.text(), candidates(one)});
    auto proposed = operations::propose(*root_, std::move(request));
    if (const auto* const refused = std::get_if<operations::Refused>(&proposed.result)) refuse(*root_, *refused);
    proposal_ = std::move(std::get<std::unique_ptr<Proposal>>(proposed.result));
    BuildRoot result;
    Sha256 key;
    for (const plan::Step& step : proposal_->plan().steps) {
      if (!step.brings_files()) continue;
      result.bytes += static_cast<ByteCount>(std::max<std::int64_t>(0, step.size_change));
      result.fetched += is_cached(step) ? 0 : step.download;
      result.against.push_back(fmt::format("{} {} {} {}", step.name, step.after, step.arch, digest_of(*step.after_id)));
    }
    std::sort(result.against.begin(), result.against.end());
    for (const std::string& one : result.against) key.update(one + "\n");
    result.packages = result.against.size();
    shared_ = "roots/" + key.finish().hex();
    result.was_there = workshop_.files().stat(shared_).has_value();
    result.path = workshop_.on_host(shared_);
    return result;
  }

  void make() {
    for (const plan::Step& step : proposal_->plan().steps)
      if (step.brings_files() && is_cached(step)) bring(main_.files(), cached_file(step), *files_, cached_file(step));
    operations::Terms terms;
    terms.accepts_unsigned = true;  // of package files that were named for it
    terms.stop_asked = terms_.stop_asked;
    std::ignore = proposal_->perform(*root_, terms);  // what is done is done, or thrown; nobody is told of it
    keep_fetched();
    proposal_.reset();
    root_.reset();
    // what only served to make it, and is nothing that steps should see
    for (const char* const one : {"etc/hambrel", "var/cache/hambrel", repo::kVerified}) files_->remove_tree(one);
    files_.reset();
    const auto closed = workshop_.close();
    if (!workshop_.files().stat(shared_)) workshop_.files().rename_no_replace(place_, shared_);
  }

 private:
  std::vector<PackageId> candidates(const Relation& relation) {
    std::vector<PackageId> all = root_->universe().matching(relation);
    std::erase_if(all, [&](PackageId id) { return !root_->universe().visible(id); });
    if (all.empty())
      throw Error(ErrorCode::Refused, fmt::format("no package is called or provides \"{}\"", relation.text()), {},
                  kNoNeed);
    return all;
  }
  bool is_cached(const plan::Step& step) const {
    const auto info = main_.files().stat(cached_file(step));
    return info && info->type == os::FileType::Regular;
  }
  std::string digest_of(PackageId id) const {
    const auto& offers = root_->universe()[id].offers;
    return offers.empty() ? "" : offers.front().digest.hex();
  }
  /// What was fetched is in the cache of the system, too, where this process may write there.
  void keep_fetched() {
    try {
      for (const plan::Step& step : proposal_->plan().steps)
        if (step.brings_files() && !is_cached(step) && files_->stat(cached_file(step)))
          bring(*files_, cached_file(step), main_.files(), cached_file(step));
    } catch (const Error&) {  // then it is fetched again next time
    }
  }

  operations::Root& main_;
  Workshop& workshop_;
  const BuildRootTerms& terms_;
  const std::string place_;
  std::string shared_;
  std::unique_ptr<os::FileSystem> files_;
  std::unique_ptr<ChangingRoot> root_;
  std::unique_ptr<Proposal> proposal_;
};

}  // namespace

BuildRoot planned_build_root(operations::Root& root, Workshop& workshop, Bench& bench, const Needs& needs,
                             const BuildRootTerms& terms, Observer& observer) {
  return NewRoot(root, workshop, bench, terms, observer).planned(needs);
}

BuildRoot make_build_root(operations::Root& root, Workshop& workshop, Bench& bench, const Needs& needs,
                          const BuildRootTerms& terms, Observer& observer) {
  NewRoot made(root, workshop, bench, terms, observer);
  BuildRoot result = made.planned(needs);
  if (!result.was_there) made.make();
  return result;
}

BuildRootPackages::BuildRootPackages(const BuildRoot& made, const operations::RootOptions& system, Observer& observer)
    : offers_count_(made.is_host) {
  operations::RootOptions options = system;
  if (!made.is_host) options.path = made.path;
  root_ = std::make_unique<operations::Root>(std::move(options), observer);
}
BuildRootPackages::~BuildRootPackages() = default;

std::string BuildRootPackages::owner_of(const std::string& path) {
  if (root_->is_new()) return {};
  os::FileSystem& files = root_->files();
  const auto first = [&](const std::string& one) {
    const auto owners = operations::owners_of(*root_, one);
    return owners.empty() ? std::string() : owners.front();
  };
  if (!path.starts_with("/") || !path_problem(path.substr(1)).empty()) return {};
  const std::string relative = path.substr(1);
  if (std::string owner = first(relative); !owner.empty()) return owner;
  if (!files.stat_followed(relative)) return {};
  // by where its directory really is: /bin is a link to usr/bin in many systems
  return first(os::join_path(files.physical(std::string(os::parent_of(relative))), os::name_of(relative)));
}

bool BuildRootPackages::provides(const Constraint& constraint) {
  const Universe& universe = root_->universe();
  const auto all = universe.matching(constraint);
  return std::any_of(all.begin(), all.end(), [&](PackageId id) {
    return universe.is_installed(id) || (offers_count_ && universe.visible(id));
  });
}

std::string BuildRootPackages::owner_of_library(const std::string& soname) {
  if (soname.find('/') != std::string::npos) return {};
  const std::string triplet = root_->settings().architectures.front() + "-linux-gnu";
  for (const std::string& directory :
       {std::string("usr/lib"), "usr/lib/" + triplet, std::string("usr/lib64"), std::string("lib"), "lib/" + triplet,
        std::string("lib64"), std::string("usr/local/lib")})
    if (const std::string owner = owner_of("/" + directory + "/" + soname); !owner.empty()) return owner;
  return {};
}

}  // namespace hambrel::build
