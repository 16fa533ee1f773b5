#include "build/building.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::build {

namespace {

constexpr std::int64_t kNoDate = 946'684'800;  // 2000-01-01: where nothing says when the sources are of

/// Gives a tree of the workshop to the user that steps run as.
void give(os::FileSystem& files, const std::string& path, std::uint32_t user) {
  files.set_owner(path, user, user);
  const auto info = files.stat(path);
  if (!info || info->type != os::FileType::Directory) return;
  for (const std::string& name : files.list(path)) give(files, path + "/" + name, user);
}

std::string title_of(const Recipe& recipe) { return fmt::format("{}-{}", recipe.name(), recipe.usual.version.text()); }

}  // namespace

std::vector<std::string> BuildFailure::last_lines(std::size_t most) const {
  std::vector<std::string> lines;
  for (const std::string_view line : split(step.end.output, '\n')) lines.push_back(printable_line(line));
  while (!lines.empty() && trim(lines.back()).empty()) lines.pop_back();
  if (lines.size() > most) lines.erase(lines.begin(), lines.end() - static_cast<std::ptrdiff_t>(most));
  return lines;
}

/// What steps print, kept in the workshop.
class Build::Log {
 public:
  Log(Workshop& workshop, const std::string& name) : path_(workshop.on_host(Workshop::log_file(name))) {
    os::FileSystem& files = workshop.files();
    const std::string file = Workshop::log_file(name);
    if (files.stat(file)) files.remove_file(file);
    file_ = files.create(file, 0600);
  }
  void write(std::string_view text) {
    constexpr std::uint64_t kMost = 256ULL << 20;
    if (written_ > kMost) return;
    file_->write(text);
    written_ += text.size();
  }
  const std::string& path() const { return path_; }

 private:
  std::string path_;
  std::unique_ptr<os::WritableFile> file_;
  std::uint64_t written_ = 0;
};

Build::Build(operations::Root& root, BuildRequest request)
    : root_(root),
      request_(std::move(request)),
      folder_(request_.recipe, root.settings().architectures.front()),
      switches_(switches_of(folder_.recipe(), request_.with, request_.without)),
      sources_(sources_of(folder_.recipe(), switches_)),
      workshop_(root) {
  if (request_.jobs == 0) request_.jobs = os::processors();
}
Build::~Build() = default;

std::vector<std::string> Build::package_files() const {
  std::vector<std::string> files;
  const auto host = os::open_file_system("/");
  for (const std::string& given : request_.package_files) {
    const std::string path = os::host_path(given);
    const auto info = host->stat_followed(path);
    if (!info) throw Error(ErrorCode::NotFound, "there is no such file or directory", given, "check --packages");
    if (info->type != os::FileType::Directory) {
      files.push_back(given);
      continue;
    }
    for (const std::string& name : host->list(path))
      if (name.ends_with(".hambrel")) files.push_back("/" + path + "/" + name);
  }
  return files;
}

BuildRootTerms Build::root_terms(const BuildEvents& events) const {
  BuildRootTerms terms;
  terms.package_files = package_files();
  terms.stop_asked = events.stop_asked;
  return terms;
}

os::ProgramEnd Build::look_around() {
  const auto kept = kept_build(workshop_, title_of(folder_.recipe()));
  if (!kept)
    throw Error(ErrorCode::NotFound, "no build of it was kept", folder_.recipe().name(), "build it with --keep first");
  BuildRoot root;
  root.path = kept->root;
  root.is_host = kept->root == "/";
  StepRunner steps(root, workshop_.on_host(kept->directory + "/work"), workshop_.on_host(kept->directory + "/merged"),
                   root_.settings().build);
  return steps.run_shell();
}

BuildPlan Build::plan() {
  const Recipe& recipe = folder_.recipe();
  BuildPlan plan;
  plan.recipe = &recipe;
  plan.digest = folder_.digest();
  plan.switches = switches_;
  for (const Source& one : sources_) {
    PlannedSource& source = plan.sources.emplace_back();
    source.name = one.name();
    source.from = one.url.empty() ? one.file : shown_url(one.url);
    source.is_here = one.url.empty() || workshop_.files().stat(Workshop::source_file(*one.digest)).has_value();
    source.is_signed = !one.key.empty();
    source.patches = one.patches.size();
  }
  for (const StepKind kind : kSteps)
    if (!recipe.step(kind).empty() && (kind != StepKind::Check || request_.with_check)) plan.steps.push_back(kind);
  if (request_.host_tools) {
    plan.root.is_host = true;
    plan.root.path = "/";
    return plan;
  }
  Bench bench(workshop_, title_of(recipe));
  plan.root =
      planned_build_root(root_, workshop_, bench, needs_of(recipe, switches_), root_terms({}), root_.observer());
  bench.clear();
  return plan;
}

std::variant<BuildOutcome, BuildFailure> Build::perform(const BuildEvents& events) {
  const Recipe& recipe = folder_.recipe();
  bench_ = std::make_unique<Bench>(workshop_, title_of(recipe));
  const ByteCount fetched = fetch_sources(root_, workshop_, folder_, sources_, events.stop_asked);
  BuildRoot made;
  made.is_host = request_.host_tools;
  made.path = "/";
  if (!request_.host_tools)
    made =
        make_build_root(root_, workshop_, *bench_, needs_of(recipe, switches_), root_terms(events), root_.observer());
  Log log(workshop_, title_of(recipe));
  auto result = run(made, bench_->work(), log, events);
  if (auto* const failure = std::get_if<BuildFailure>(&result)) {
    if (failure->step.end.kind == os::ProgramEnd::Kind::Stopped) {
      bench_->clear();
      throw Error(ErrorCode::Declined, "interrupted; nothing was made", recipe.name(), "its log: " + log.path());
    }
    if (request_.keep) {
      bench_->keep(made.path);
      failure->kept = workshop_.on_host(bench_->work());
    } else {
      bench_->clear();
    }
    return result;
  }
  auto& outcome = std::get<BuildOutcome>(result);
  outcome.fetched = fetched + made.fetched;
  if (request_.check_reproducible) {
    const BuildRequest request = request_;
    request_.output.directory = workshop_.on_host(bench_->directory()) + "/again";
    request_.jobs = request.jobs > 1 ? 1 : 2;
    workshop_.files().make_directory(bench_->directory() + "/again", 0700);
    remove_whole(workshop_.files(), bench_->work());
    workshop_.files().make_directory(bench_->work(), 0755);
    auto second = run(made, bench_->work(), log, events);
    request_ = request;
    if (auto* const failure = std::get_if<BuildFailure>(&second)) {
      bench_->clear();
      return std::move(*failure);
    }
    require_same(outcome, std::get<BuildOutcome>(second));
    outcome.is_reproducible = true;
  }
  bench_->clear();
  return result;
}

void Build::require_same(const BuildOutcome& first, const BuildOutcome& second) const {
  for (std::size_t i = 0; i < first.packages.size(); ++i) {
    if (first.packages[i].digest == second.packages[i].digest) continue;
    const auto [a, b] = std::pair(first.packages[i].file, second.packages[i].file);
    const auto host = os::open_file_system("/");
    const auto open = [&](const std::string& file) {
      return archive::PackageReader(host->open(os::host_path(file)), file);
    };
    const archive::PackageReader one = open(a), other = open(b);
    std::vector<std::string> differ;
    for (std::size_t k = 0; k < one.contents().size(); ++k) {
      const archive::Entry entry = one.contents().entry(k);
      const auto there = other.find(entry.path);
      const bool same =
          there && archive::tar_header(*there) == archive::tar_header(entry) && there->digest == entry.digest;
      if (!same) differ.push_back("/" + entry.path);
    }
    throw Error(ErrorCode::Invalid,
                differ.empty() ? "is not the same when it is built again: its description differs"
                               : "is not the same when it is built again: " + first_of(differ),
                a, "times, paths, random numbers or the order of files got into them; the log has both builds");
  }
}

std::optional<StepFailure> Build::put_patches(StepRunner& steps, const std::string& work, const BuildEvents& events) {
  os::FileSystem& files = workshop_.files();
  for (const Source& source : sources_)
    for (const std::string& patch : source.patches) {
      const std::string there = work + "/patch";
      if (files.stat(there)) files.remove_file(there);
      const auto from = folder_.files().open(patch);
      const auto to = files.create(there, 0644);
      os::copy_content(*from, *to, patch);
      to->close();
      std::vector<std::string> words{"patch", "-p1", "--batch", "--forward", "-i", fmt::format("{}/patch", kWork)};
      if (!source.into.empty()) words.insert(words.end(), {"-d", source.into});
      const std::string shown = fmt::format("patch -p1 < {}", patch);
      events.begin(StepKind::Configure, shown);
      os::ProgramEnd end = steps.run_command(words, "", events);
      if (end.kind == os::ProgramEnd::Kind::NotStarted)
        end.problem = "[needs] tools of a recipe with patches needs patch";
      if (!end.succeeded()) return StepFailure{StepKind::Configure, shown, std::move(end)};
      files.remove_file(there);
    }
  return std::nullopt;
}

std::variant<BuildOutcome, BuildFailure> Build::run(const BuildRoot& made, const std::string& work, Log& log,
                                                    const BuildEvents& events) {
  const Recipe& recipe = folder_.recipe();
  os::FileSystem& files = workshop_.files();
  const std::string source = work + "/" + kSourceDirectory, stage = work + "/" + kStageDirectory;
  std::int64_t epoch = unpack_sources(workshop_, folder_, sources_, source);
  if (recipe.date) epoch = *recipe.date;
  if (epoch == 0) epoch = kNoDate;
  for (const char* const one : {"tmp", "home"}) files.make_directory(work + "/" + one, 0755);
  files.make_directory(stage, 0755);
  const std::string merged = bench_->directory() + "/merged";
  if (!files.stat(merged)) files.make_directory(merged, 0700);
  if (os::is_superuser()) give(files, work, kBuilder);

  BuildEvents logged = events;
  logged.begin = [&](StepKind kind, const std::string& command) {
    log.write(fmt::format("[{}] {}\n", text_of(kind), command));
    events.begin(kind, command);
  };
  logged.printed = [&](std::string_view text) {
    log.write(text);
    events.printed(text);
  };
  const settings::BuildRules& rules = root_.settings().build;
  StepRunner steps(made, workshop_.on_host(work), workshop_.on_host(merged), rules);
  Values values;
  values.stage = fmt::format("{}/{}", kWork, kStageDirectory);
  values.arch = root_.settings().architectures.front();
  values.jobs = request_.jobs;
  values.switches = switches_;
  auto failed = put_patches(steps, work, logged);
  if (!failed) failed = steps.run(recipe, values, epoch, request_.with_check, logged);
  if (failed) return BuildFailure{std::move(*failed), log.path(), ""};
  // steps may do with their directory what they like, but a link would lead out of it
  const auto staged = files.stat(stage);
  if (!staged || staged->type != os::FileType::Directory)
    throw Error(ErrorCode::Invalid, "its steps have put something else in the place of {stage}", recipe.name(),
                "they have to install into that directory");

  Origin origin;
  origin.recipe = folder_.digest();
  origin.switches = switches_;
  origin.against = made.against;
  origin.host_tools = made.is_host;
  for (const Source& one : sources_)
    if (one.digest) origin.sources.push_back(one.digest->hex());
  OutputTerms terms = request_.output;
  terms.epoch = epoch;
  BuildOutcome outcome;
  BuildRootPackages packages(made, root_.options(), root_.observer());
  outcome.packages = make_packages(workshop_, recipe, switches_, stage, bench_->directory() + "/apart", origin,
                                   packages, terms, root_.observer());
  remove_whole(files, bench_->directory() + "/apart");
  outcome.times = steps.times();
  outcome.log = log.path();
  return outcome;
}

}  // namespace hambrel::build
