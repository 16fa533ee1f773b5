#include "build/steps.h"

#include <fmt/format.h>

#include <algorithm>
#include <climits>

#include "base/amounts.h"
#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::build {

namespace {

constexpr const char* kPath = "/usr/bin:/bin:/usr/sbin:/sbin";

std::string as_typed(const std::vector<std::string>& words) {
  std::string text;
  for (const std::string& word : words) text += (text.empty() ? "" : " ") + shell_quoted(word);
  return text;
}

}  // namespace

std::string shortened(const std::string& command, std::size_t most) {
  if (command.size() <= most) return command;
  const auto space = command.rfind(' ', most - 4);
  return command.substr(0, space == std::string::npos || space < most / 2 ? most - 4 : space) + " ...";
}

std::string StepFailure::text() const {
  constexpr std::size_t kMost = 100;
  const std::string run = shortened(command, kMost);
  using Kind = os::ProgramEnd::Kind;
  switch (end.kind) {
    case Kind::Exited: return fmt::format("{} ended with code {}", run, end.code);
    case Kind::Killed: return fmt::format("{} was ended by signal {}", run, end.code);
    case Kind::NotStarted: return fmt::format("{} cannot be run: {}", run, end.problem);
    case Kind::TooLong: return fmt::format("{} took longer than [build] seconds allows", run);
    case Kind::TooMany: return fmt::format("{} ran more processes than [build] processes allows", run);
    case Kind::TooLarge: return fmt::format("{} took more memory than [build] memory_mebibytes allows", run);
    case Kind::TooMuch: return fmt::format("{} wrote more than [build] mebibytes allows", run);
    case Kind::TooManyFiles: return fmt::format("{} made more files than are allowed", run);
    case Kind::NoPreview: return fmt::format("no sandbox can be made: {}", end.problem);
    case Kind::Stopped: return "it was interrupted";
  }
  return {};
}

StepRunner::StepRunner(const BuildRoot& root, std::string work, std::string merged, const settings::BuildRules& rules)
    : root_(root),
      work_(std::move(work)),
      merged_(std::move(merged)),
      rules_(rules),
      files_(os::open_file_system(root.path)),
      directory_(fmt::format("{}/{}", kWork, kSourceDirectory)) {}

std::string StepRunner::find_program(const std::string& name) {
  if (name.find('/') != std::string::npos) return name;
  for (const std::string_view directory : split(kPath, ':')) {
    const std::string path = fmt::format("{}/{}", directory, name);
    const auto info = files_->stat_followed(path.substr(1));
    constexpr std::uint32_t kRunnable = 0111;
    if (info && info->type == os::FileType::Regular && (info->mode & kRunnable) != 0) return path;
  }
  return {};
}

os::Preview StepRunner::preview() const {
  os::Preview preview;
  preview.layers.push_back({"", root_.path, "", "", ""});
  if (root_.is_host) {
    // what is mounted elsewhere is only seen where programs and libraries are looked for
    for (const std::string& at : files_->mount_points())
      for (const std::string_view top : {"usr", "opt", "etc", "lib", "lib64", "bin", "sbin", "nix", "gnu"})
        if (at == top || os::is_below(at, top))
          if (const auto info = files_->stat(at); info && info->type == os::FileType::Directory)
            preview.layers.push_back({at, "/" + at, "", "", ""});
    for (const char* const own : {"home", "root", "var/cache/hambrel", "var/lib/hambrel", "etc/hambrel"})
      if (const auto info = files_->stat(own); info && info->type == os::FileType::Directory)
        preview.hidden.emplace_back(own);
  }
  preview.layers.push_back({kWork + 1, work_, "", "", "", true});
  preview.merged = merged_;
  return preview;
}

os::PreviewLimits StepRunner::limits() const {
  os::PreviewLimits limits;
  limits.seconds = rules_.seconds;
  limits.processes = rules_.processes;
  limits.memory = rules_.memory_mebibytes << 20U;
  limits.disk = rules_.mebibytes << 20U;
  limits.files = 1ULL << 22U;
  return limits;
}

os::ProgramEnd StepRunner::run_command(std::vector<std::string> words, const std::string& script,
                                       const BuildEvents& events) {
  os::ProgramEnd end;
  os::PreviewProgram program;
  const std::string found = find_program(words[0]);
  if (found.empty()) {
    end.kind = os::ProgramEnd::Kind::NotStarted;
    end.problem = root_.is_host ? "there is no such program on this machine"
                                : "there is no such program in the build root: [needs] tools should name its package";
    return end;
  }
  words[0] = found;
  program.words = std::move(words);
  program.environment = environment_;
  program.script = script;
  program.directory = directory_;
  program.user = kBuilder;
  return os::run_on_preview(preview(), program, limits(), events.printed, events.stop_asked);
}

os::ProgramEnd StepRunner::run_shell() {
  os::PreviewProgram program;
  program.words = {"/bin/sh", "-i"};
  program.environment = {std::string("PATH=") + kPath,
                         "LANG=C.UTF-8",
                         "TERM=dumb",
                         "PS1=(build) $ ",
                         fmt::format("HOME={}/home", kWork),
                         fmt::format("TMPDIR={}/tmp", kWork)};
  program.directory = fmt::format("{}/{}", kWork, kSourceDirectory);
  program.user = kBuilder;
  program.on_terminal = true;
  os::PreviewLimits limits = this->limits();
  limits.seconds = UINT_MAX / 1000U;
  return os::run_on_preview(
      preview(), program, limits, [](std::string_view) {}, [] { return false; });
}

std::optional<StepFailure> StepRunner::run(const Recipe& recipe, const Values& values, std::int64_t epoch,
                                           bool with_check, const BuildEvents& events) {
  environment_ = {std::string("PATH=") + kPath,
                  "LANG=C.UTF-8",
                  "LC_ALL=C.UTF-8",
                  "TZ=UTC",
                  "TERM=dumb",
                  fmt::format("HOME={}/home", kWork),
                  fmt::format("TMPDIR={}/tmp", kWork),
                  fmt::format("SOURCE_DATE_EPOCH={}", epoch)};
  for (const auto& [key, value] : recipe.environment)
    environment_.push_back(fmt::format("{}={}", key, put_in(value, values)));
  directory_ = fmt::format("{}/{}", kWork, kSourceDirectory);
  if (!recipe.directory.empty()) directory_ += "/" + recipe.directory;
  for (const StepKind kind : kSteps) {
    const Step& step = recipe.step(kind);
    if (step.empty() || (kind == StepKind::Check && !with_check)) continue;
    const std::int64_t begun = os::monotonic_milliseconds();
    std::vector<std::vector<std::string>> commands;
    for (const auto& words : step.commands) commands.push_back(put_in(words, values));
    const std::string script = put_in(step.script, values);
    if (commands.empty()) commands.push_back({"/bin/sh", "-e", os::kScript});
    for (std::vector<std::string>& words : commands) {
      const std::string shown = script.empty() ? as_typed(words) : fmt::format("the script of {}", text_of(kind));
      events.begin(kind, shown);
      os::ProgramEnd end = run_command(std::move(words), script, events);
      if (!end.succeeded()) return StepFailure{kind, shown, std::move(end)};
    }
    times_.milliseconds[static_cast<std::size_t>(kind)] = os::monotonic_milliseconds() - begun;
  }
  return std::nullopt;
}

}  // namespace hambrel::build
