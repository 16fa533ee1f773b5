// verify and repair.
#include <fmt/format.h>

#include "base/json.h"
#include "base/text.h"
#include "cli/apart.h"
#include "cli/package_view.h"
#include "cli/plan_view.h"
#include "os/host.h"
#include "repo/download.h"
#include "repo/index.h"
#include "repo/transfer.h"
#include "txn/invariants.h"
#include "txn/verify.h"

namespace hambrel::cli {

namespace {

constexpr int kDamageFound = 11;  // exit code

/// What the specs name of what is installed; everything without any.
std::vector<state::StatePackage> named(Session& session, const Arguments& arguments, const state::State& state) {
  std::vector<state::StatePackage> packages = state.installed();
  solve::Names names;
  for (const Spec& spec : parse_specs(arguments.words())) names.merge(select_installed(session, spec));
  if (!arguments.words().empty())
    std::erase_if(packages, [&](const state::StatePackage& one) { return !names.contains(one.package.name); });
  return packages;
}

txn::Verified look_at_files(Session& session, const Arguments& arguments, const state::State& state,
                            const std::vector<state::StatePackage>& packages) {
  return txn::verify(session.root(), state, packages, arguments.has("fast") ? txn::Depth::Times : txn::Depth::Content,
                     os::processors(), session.progress());
}

/// What can be wrong beside files: the database, the chain of the ledger, transactions, the set of packages.
std::vector<std::string> other_problems(Session& session, const state::State& state) {
  std::vector<std::string> problems = state.damage();
  for (const std::string& one : txn::broken_invariants(session.root(), state)) problems.push_back(one);
  const Universe& universe = session.universe();
  for (const std::string& one : plan::problems_of(universe, universe.installed())) problems.push_back(one);
  return problems;
}

const char* name_of(txn::Finding::Kind kind) {
  static constexpr const char* kNames[] = {"missing", "type",  "content",    "mode",   "owner",
                                           "target",  "links", "attributes", "edited", "deleted"};
  return kNames[static_cast<int>(kind)];
}

/// Package files of versions that are installed, opened where they lie: in the cache, or in a repository, of which only
/// the frames that are needed are read.
class InstalledSources {
 public:
  explicit InstalledSources(Session& session) : session_(session) {}

  archive::PackageReader* open(const state::StatePackage& package) {
    for (const auto& file : files_of(package)) {
      try {
        readers_.push_back(std::make_unique<archive::PackageReader>(file.second(), file.first));
        return readers_.back().get();
      } catch (const Error& problem) {
        session_.progress().note(fmt::format("{}: {}", problem.where(), problem.problem()));
      }
    }
    return nullptr;
  }

 private:
  using Place = std::pair<std::string, std::function<std::unique_ptr<os::ReadableFile>()>>;

  std::vector<Place> files_of(const state::StatePackage& package) {
    std::vector<Place> places;
    const std::string cached = repo::cache_path(package.package);
    if (session_.root().stat(cached))
      places.emplace_back(session_.root().shown(cached), [this, cached] { return session_.root().open(cached); });
    const Universe& universe = session_.universe();
    for (const PackageId id : universe.versions_of(package.package.name)) {
      if (universe.package(id).version != package.package.version || universe.architecture(id) != package.package.arch)
        continue;
      for (const Offer& offer : universe[id].offers)
        for (const repo::Repository& one : session_.repositories())
          if (one.name == offer.repository && offer.digest == package.digest) {
            const std::string url = one.url + "/" + repo::package_url_path(package.package);
            places.emplace_back(url, [url, size = offer.size] { return repo::open_url(url, size); });
          }
    }
    return places;
  }

  Session& session_;
  std::vector<std::unique_ptr<archive::PackageReader>> readers_;
};

}  // namespace

int run_verify(Session& session, const Arguments& arguments) {
  const Screen& screen = session.screen();
  const state::State* const state = session.looking();
  if (state == nullptr) {
    if (!session.json() && !session.quiet()) screen.line("Nothing to verify: nothing was installed in this root yet.");
    return 0;
  }
  const auto packages = named(session, arguments, *state);
  const auto problems = arguments.words().empty() ? other_problems(session, *state) : std::vector<std::string>();
  const txn::Verified verified = look_at_files(session, arguments, *state, packages);
  Table table;
  for (const txn::Finding& one : verified.findings) {
    if (session.json()) {
      screen.line(canonical({{"path", "/" + one.entry.path},
                             {"package", one.package},
                             {"kind", name_of(one.kind)},
                             {"text", one.text()},
                             {"damage", one.is_damage()}}));
    } else if (one.is_damage() || !session.quiet()) {
      table.row({{one.is_damage() ? "damaged" : "kept", one.is_damage() ? Style::Warn : Style::Faint},
                 {"/" + printable(one.entry.path), Style::Name},
                 {one.text()},
                 {one.package, Style::Faint}});
    }
  }
  table.print(screen);
  for (const std::string& problem : problems) {
    if (session.json())
      screen.line(canonical({{"problem", problem}}));
    else
      screen.line("  " + screen.paint(Style::Warn, "problem") + "  " + printable(problem));
  }
  const std::size_t damaged = verified.damaged();
  if (session.json()) {
    screen.line(canonical(
        {{"packages", packages.size()}, {"files", verified.files}, {"read", verified.read}, {"damaged", damaged}}));
  } else if (!session.quiet()) {
    if (!table.empty() || !problems.empty()) screen.line();
    screen.line(fmt::format("{} in {}, {} read: {}.", count_text(verified.files, "file", "files"),
                            count_text(packages.size(), "package", "packages"), size_text(verified.read),
                            damaged == 0 ? "all are as they were installed"
                                         : fmt::format("{} not as installed", count_text(damaged, "is", "are"))));
  }
  if (damaged > 0 && !session.quiet())
    screen.hint(fmt::format("`{}` puts back what is damaged", session.copyable("hambrel repair")));
  return damaged > 0 || !problems.empty() ? kDamageFound : 0;
}

int run_repair(Session& session, const Arguments& arguments) {
  const state::State& state = past(session, arguments);
  session.tell_of_unusable_repositories();
  const auto packages = named(session, arguments, state);
  const txn::Verified verified = look_at_files(session, arguments, state, packages);
  InstalledSources sources(session);
  const txn::Planned repair =
      txn::plan_repair(session.root(), state, packages, verified,
                       [&](const state::StatePackage& package) { return sources.open(package); });
  if (repair.plan.steps.empty()) {
    if (session.json()) {
      screen_nothing(session, repair.plan);
    } else if (!session.quiet()) {
      for (const plan::Notice& notice : repair.plan.notices) session.screen().line("  " + printable(notice.text()));
      if (repair.plan.notices.empty())
        session.screen().line("Nothing to repair: all files are as they were installed.");
    }
    return verified.damaged() > 0 ? kDamageFound : 0;
  }
  return carry_out(session, arguments, repair);
}

}  // namespace hambrel::cli
