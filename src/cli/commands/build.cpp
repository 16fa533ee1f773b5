// build and recipe: packages from source.
#include <fmt/format.h>

#include <algorithm>

#include "base/json.h"
#include "base/text.h"
#include "build/building.h"
#include "build/collection.h"
#include "cli/carry.h"
#include "cli/commands/build.h"
#include "cli/session.h"
#include "cli/show/recipe.h"
#include "cli/show/watching.h"
#include "cli/terminal/secret.h"
#include "os/host.h"
#include "os/interrupt.h"

namespace hambrel::cli {

namespace {

std::uint64_t number_of(const Arguments& arguments, const char* option, std::uint64_t most, std::uint64_t otherwise) {
  const auto given = arguments.value(option);
  if (!given) return otherwise;
  const auto number = parse_number(*given);
  if (!number || *number < 1 || *number > most)
    throw Error(ErrorCode::Usage,
                fmt::format("--{} {}: must be a number from 1 to {}", option, printable(*given), most));
  return *number;
}

build::BuildRequest request_of(Session& session, const Arguments& arguments) {
  constexpr std::uint64_t kMostJobs = 4096, kMostLevel = 19, kLevel = 9;
  build::BuildRequest request;
  request.recipe = arguments.words()[0];
  request.with = arguments.values("with");
  request.without = arguments.values("without");
  request.package_files = arguments.values("packages");
  request.output.directory = arguments.value("output").value_or(".");
  request.output.level = static_cast<int>(number_of(arguments, "level", kMostLevel, kLevel));
  request.output.keys = arguments.values("key");
  request.output.passphrase = [&](const std::string& file) { return passphrase_of(session.screen(), file); };
  request.jobs = static_cast<unsigned>(number_of(arguments, "jobs", kMostJobs, 0));
  request.host_tools = arguments.has("host-tools");
  request.with_check = !arguments.has("no-check");
  request.keep = arguments.has("keep");
  request.check_reproducible = arguments.has("check-reproducible");
  return request;
}

}  // namespace

void read_first(Session& session, const Arguments& arguments, const build::Buildable& wanted,
                const std::string& folder) {
  build::Workshop workshop(session.root());
  const build::Review review = build::review_of(workshop, folder, wanted);
  if (!review.is_needed) return;
  const std::string what =
      review.is_first ? fmt::format("The recipe {} of {}, which was not built here before:", wanted.recipe.name,
                                    wanted.repository.name)
                      : fmt::format("What has changed in the recipe {} of {} since it was read:", wanted.recipe.name,
                                    wanted.repository.name);
  if (arguments.has("dry-run") || arguments.has("yes") || !can_ask() || session.json()) {
    if (!arguments.has("yes") && !arguments.has("dry-run"))
      throw Error(ErrorCode::Declined,
                  fmt::format("the recipe {} of {} {}", wanted.recipe.name, wanted.repository.name,
                              review.is_first ? "was not read yet" : "has changed since it was read"),
                  {}, "read it with --dry-run, or on a terminal; --yes builds it unread");
    if (arguments.has("yes")) return build::remember(workshop, folder, wanted);
    if (session.json()) return;
  }
  show(session, what, review, !arguments.has("no-pager"));
  if (arguments.has("dry-run")) return;
  if (!is_yes(session, fmt::format("Build {} by this recipe?", wanted.recipe.name)))
    throw Error(ErrorCode::Declined, "nothing was built");
  build::remember(workshop, folder, wanted);
}

namespace {

/// A shell where a build that was kept has ended.
int look_around(const Session& session, build::Build& build) {
  if (session.json() || !can_ask())
    throw Error(ErrorCode::Usage, "--shell needs a terminal", {}, "what was kept lies below var/cache/hambrel/builds");
  session.screen().line("A shell in the build as it was kept; `exit` leaves it.");
  const os::InterruptGuard guard;
  const os::ProgramEnd end = build.look_around();
  if (end.kind == os::ProgramEnd::Kind::NoPreview || end.kind == os::ProgramEnd::Kind::NotStarted)
    throw Error(ErrorCode::Io, "no shell can be started: " + end.problem, "/bin/sh",
                "the build root may have none: add it to [needs] tools");
  return 0;
}

/// Options that were chosen here, where the command line says nothing else.
void take_remembered(Session& session, build::BuildRequest& request) {
  const build::RecipeFolder folder(request.recipe, session.root().settings().architectures.front());
  const std::vector<std::string> with = request.with, without = request.without;
  const auto is_in = [](const std::vector<std::string>& list, const std::string& name) {
    return std::find(list.begin(), list.end(), name) != list.end();
  };
  for (const auto& [name, on] : build::switches_here(session.root(), folder.recipe()))
    if (!is_in(with, name) && !is_in(without, name)) (on ? request.with : request.without).push_back(name);
}

/// A folder, or the name of a recipe that a repository has.
std::string folder_of(Session& session, const Arguments& arguments, const std::string& given) {
  const auto host = os::open_file_system("/");
  if (given.find('/') != std::string::npos || host->stat_followed(os::host_path(given)) || !is_package_name(given))
    return given;
  const auto wanted = build::find_buildable(session.root(), given);
  if (!wanted)
    throw Error(ErrorCode::NotFound, "there is no such folder, and no repository has a recipe for it", given,
                "`hambrel list buildable` shows recipes; `hambrel refresh` fetches what is new");
  build::Workshop workshop(session.root());
  const std::string folder = build::bring(session.root(), workshop, *wanted);
  read_first(session, arguments, *wanted, folder);
  return folder;
}

}  // namespace

int run_build(Session& session, const Arguments& arguments) {
  build::BuildRequest request = request_of(session, arguments);
  const std::string named = request.recipe;
  request.recipe = folder_of(session, arguments, named);
  if (request.recipe != named) take_remembered(session, request);
  build::Build build(session.root(), std::move(request));
  if (arguments.has("shell")) return look_around(session, build);
  if (arguments.has("dry-run") || (!session.json() && !session.quiet())) {
    const build::BuildPlan plan = build.plan();
    if (session.json())
      session.document(to_json(plan));
    else
      show(session, plan);
    if (arguments.has("dry-run")) return 0;
    if (!session.json()) session.screen().line();
  }
  return perform(session, build);
}

int perform(Session& session, build::Build& build, std::int64_t* took) {
  const os::InterruptGuard guard;
  Watching watching(session);
  build::BuildEvents events;
  events.begin = [&](build::StepKind kind, const std::string& command) { watching.begin(kind, command); };
  events.printed = [&](std::string_view text) { watching.printed(text); };
  events.stop_asked = [&guard] { return guard.asked(); };
  const auto result = build.perform(events);
  watching.end();
  if (const auto* const failure = std::get_if<build::BuildFailure>(&result)) {
    show(session, build.folder().recipe(), *failure);
    return 1;
  }
  const auto& outcome = std::get<build::BuildOutcome>(result);
  if (took != nullptr)
    for (const std::int64_t one : outcome.times.milliseconds) *took += one;
  if (took == nullptr || session.json() || !session.quiet()) show(session, outcome, took == nullptr);
  return 0;
}

int run_recipe(Session& session, const Arguments& arguments) {
  const std::string& verb = arguments.words()[0];
  if (verb != "check" && verb != "show")
    throw Error(ErrorCode::Usage, fmt::format("`hambrel recipe {}` is not a command", printable(verb)), {},
                "use `recipe check FILE` or `recipe show FILE`");
  const build::RecipeFolder folder(arguments.words()[1], session.root().settings().architectures.front());
  if (verb == "show") {
    show(session, folder);
    return 0;
  }
  const build::Recipe& recipe = folder.recipe();
  session.say({{"recipe", recipe.name()},
               {"version", recipe.usual.version.text()},
               {"digest", folder.digest().hex()},
               {"packages", recipe.outputs.size()}},
              fmt::format("{}: fine: {} {}, {}, {}", folder.shown(), recipe.name(), recipe.usual.version.text(),
                          count_text(recipe.sources.size(), "source", "sources"),
                          count_text(recipe.outputs.size(), "package", "packages")));
  return 0;
}

}  // namespace hambrel::cli
