#include "txn/rehearsal_run.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/assert.h"
#include "base/error.h"
#include "base/text.h"
#include "os/host.h"
#include "txn/capture.h"
#include "txn/moving.h"
#include "txn/stager.h"
#include "txn/staging_homes.h"

namespace hambrel::txn {

using rehearsal::Run;
using rehearsal::Written;

namespace {

constexpr std::size_t kMostRounds = 3;  // of triggers that are due for what others wrote

std::string name_of(const Run& run) {
  return fmt::format("the {} of {}", run.is_trigger() ? "trigger" : "hook", run.shown.package);
}

/// The directory on which the file system of a home is mounted.
std::string top_of(os::FileReader& root, const std::string& home) {
  if (home != kHome) return std::string(os::parent_of(home));
  std::string top = root.physical(existing_directory(root, home));
  const std::uint64_t mount = root.stat_followed_present(top).mount;
  while (!top.empty() && root.stat_followed_present(os::parent_of(top)).mount == mount) top = os::parent_of(top);
  return top;
}

/// The last lines of what a program printed, for a message.
std::string last_words(const std::string& output) {
  constexpr std::size_t kLines = 3, kBytes = 300;
  std::vector<std::string> lines;
  for (const std::string_view line : split(output, '\n'))
    if (!trim(line).empty()) lines.emplace_back(printable(trim(line)));
  if (lines.size() > kLines) lines.erase(lines.begin(), lines.end() - kLines);
  std::string text = join(lines, "; ");
  if (text.size() > kBytes) text = "..." + text.substr(text.size() - kBytes);
  return text;
}

}  // namespace

RehearsalRun::RehearsalRun(const Environment& environment, const Planned& planned, std::string directory,
                           std::string scratch)
    : env_(environment),
      planned_(planned),
      directory_(std::move(directory)),
      scratch_(std::move(scratch)),
      log_(environment, planned.secrets) {}

/// A view and an upper layer for each file system that the transaction changes or a program may write to.
void RehearsalRun::make_layers(const std::vector<state::Move>& moves) {
  HAMBREL_ASSERT(mounted_.empty(), "layers are made once");
  StagingHomes homes(env_.root);
  std::set<std::string> all = homes_of(moves);
  all.insert(kHome);
  all.insert(homes.of("x").string());
  for (const auto* const list : {&planned_.runs.before, &planned_.runs.hooks, &planned_.runs.watching})
    for (const Run& one : *list)
      for (const std::string& glob : one.shown.writes) {
        const std::string plain = glob.substr(0, glob.find_first_of("*?"));
        all.insert(homes.of(plain.substr(0, plain.rfind('/') + 1) + "x").string());
      }
  StagingHomes::remember(env_.root, all);
  std::map<std::string, std::string> by_top;
  for (const std::string& home : all) by_top.emplace(top_of(env_.root, home), home);
  for (const auto& [top, home] : by_top) {
    const std::string place = Stager::make_stage(env_, home, scratch_);
    for (const char* const name : {"/upper", "/work"}) env_.root.make_directory(place + name, 0755);
    const os::FileInfo info = env_.root.stat_followed_present(top);
    if (env_.set_owners) env_.root.set_owner(place + "/upper", info.uid, info.gid);
    env_.root.set_mode(place + "/upper", info.mode);
    mounted_.push_back(std::make_unique<Mounted>(env_.root, home, top, place));
  }
  for (const std::string& top : StagingHomes::tops(env_.root))
    if (!by_top.contains(top)) others_.insert(top);
  for (const state::Move& move : moves) mounted_at(move.path).view.add(move, place_of(move, directory_));
  for (const char* const path : {"proc", "dev", "run", "tmp", "var/tmp"})
    for (rehearsal::View* const view : {&mounted_at(path).view, &mounted_at(path).bare}) view->need_directory(path);
  env_.root.make_directory(fmt::format("{}/{}/merged", kHome, scratch_), 0700);
}

/// By the file system that a path is, or is going to be, on.
RehearsalRun::Mounted& RehearsalRun::mounted_at(std::string_view path) {
  if (mounted_.size() == 1) return *mounted_.front();
  const std::string directory = existing_directory(env_.root, os::parent_of(path));
  const std::string physical = env_.root.physical(directory);
  Mounted* best = nullptr;
  for (const auto& one : mounted_) {
    const std::string& top = one->view.top();
    const bool holds = top.empty() || physical == top || os::is_below(physical, top);
    if (holds && (best == nullptr || top.size() > best->view.top().size())) best = one.get();
  }
  HAMBREL_ASSERT(best != nullptr, "the root's own file system is among them");
  return *best;
}

os::Preview RehearsalRun::preview(bool as_it_was) const {
  os::Preview preview;
  const auto real = [&](const std::string& path) { return env_.root.real_path(path); };
  for (const auto& one : mounted_) {
    const std::string place(os::parent_of(one->upper.place()));
    preview.layers.push_back({one->view.top(), real(one->view.top()), real(place + (as_it_was ? "/bare" : "/view")),
                              real(place + "/upper"), real(place + "/work")});
    if (const std::string own = one->home; env_.root.stat(own)) preview.hidden.push_back(own);
  }
  for (const std::string& top : others_) preview.layers.push_back({top, real(top), "", "", ""});
  std::stable_sort(preview.layers.begin(), preview.layers.end(),
                   [](const auto& a, const auto& b) { return a.at < b.at; });
  for (const char* const own : {"var/cache/hambrel", "etc/hambrel"})
    if (const auto info = env_.root.stat(own); info && info->type == os::FileType::Directory)
      preview.hidden.emplace_back(own);
  preview.merged = real(fmt::format("{}/{}/merged", kHome, scratch_));
  return preview;
}

void RehearsalRun::run(Transaction& ready) {
  const rehearsal::Runs& runs = planned_.runs;
  env_.observer.begin("rehearsing", runs.before.size() + runs.hooks.size() + runs.triggers.size(),
                      Observer::Unit::Items);
  const EndOfProgress end(env_.observer);
  const auto begun = os::file_time();
  make_layers(ready.journal.moves);
  for (const Run& one : runs.before) run_one(one, true, ready);
  for (const Run& one : runs.hooks) run_one(one, false, ready);
  run_triggers(ready);
  for (const Written& one : written_)
    if (!authors_.at(one.path).kept && one.kind != Written::Kind::Gone && one.kind != Written::Kind::Attributes)
      env_.root.remove_tree(one.place);
  Capture capture(env_, planned_, directory_, begun, ready.journal.moves);
  for (const auto& one : mounted_) capture.use(one->home, one->view);
  for (const Written& one : written_)
    if (const Author& author = authors_.at(one.path); author.kept) capture.check(one, *author.run);
  for (const Written& one : written_)
    if (const Author& author = authors_.at(one.path); author.kept) capture.add(one, *author.run);
  capture.finish(ready);
}

/// First those that are due for the change itself, then for what hooks and triggers wrote.
void RehearsalRun::run_triggers(Transaction& ready) {
  std::vector<const Run*> due;
  for (const Run& one : planned_.runs.triggers) due.push_back(&one);
  const auto add_due_for = [&](const std::vector<std::pair<std::string, const Run*>>& written) {
    for (const Run& one : planned_.runs.watching) {
      rehearsal::ChangedPaths paths;
      for (const auto& [path, by] : written)
        if (by == nullptr || !by->same_as(one)) paths.add(path);  // nobody waits for what he writes himself
      paths.sort();
      const auto match = paths.match(one.watches);
      const bool known = std::any_of(due.begin(), due.end(), [&](const Run* other) { return other->same_as(one); });
      if (!match || known) continue;
      later_.push_back(std::make_unique<Run>(one));
      later_.back()->shown.why = fmt::format("/{} changes", match->path);
      due.push_back(later_.back().get());
    }
  };
  std::vector<std::pair<std::string, const Run*>> written;
  for (const auto& [path, author] : authors_) written.emplace_back(path, author.run);
  add_due_for(written);
  for (std::size_t round = 1; !due.empty(); ++round) {
    if (round > kMostRounds)
      throw Error(ErrorCode::Refused,
                  fmt::format("triggers set each other off without end: {} is due again", name_of(*due.front())), {},
                  "nothing was changed; ask the maintainer of the package to watch less");
    written.clear();
    for (const Run* const one : due) {
      const auto before = stamps_;
      run_one(*one, false, ready);
      for (const auto& [path, stamp] : stamps_) {
        const auto found = before.find(path);
        if (found == before.end() || !(found->second == stamp)) written.emplace_back(path, one);
      }
    }
    due.clear();
    add_due_for(written);
  }
}

/// What a program prints is recorded and shown.
void RehearsalRun::hide_secrets(std::string& output) const {
  if (planned_.secrets.empty()) return;
  // only the last of it was kept, which may begin in the middle of one
  if (output.size() >= os::kKeptOutput) output.erase(0, output.find('\n'));
  output = without_secrets(std::move(output), planned_.secrets);
}

void RehearsalRun::run_one(const Run& run, bool as_it_was, Transaction& ready) {
  HAMBREL_ASSERT(!mounted_.empty(), "programs run on a preview");
  env_.go_on();
  env_.observer.at(fmt::format("{}: {}", run.shown.package, run.shown.program));
  os::PreviewProgram program{run.program.words, run.environment, run.program.script};
  if (!run.program.script.empty()) program.words = {run.program.interpreter, os::kScript};
  log_.begin(fmt::format("{}: {}", name_of(run), run.shown.program));
  os::ProgramEnd end = env_.run_program(
      preview(as_it_was), program, planned_.terms.limits, [this](std::string_view text) { log_.add(text); },
      env_.stop_asked);
  log_.end();
  hide_secrets(end.output);
  ready.runs.push_back({run.shown.package,
                        run.program_text(),
                        run.shown.occasion,
                        end.milliseconds,
                        {},
                        terminal_text(end.output, false, false)});
  try {
    judge(run, end);
    attribute(run);
  } catch (const Error& problem) {
    ready.runs.back().ended = problem.problem();
    throw;
  }
  env_.observer.progress(ready.runs.size());
}

/// What became of it, in words.
void RehearsalRun::judge(const Run& run, const os::ProgramEnd& end) const {
  using Kind = os::ProgramEnd::Kind;
  if (end.succeeded()) return;
  const os::PreviewLimits& limits = planned_.terms.limits;
  const std::string who = name_of(run), what = run.program.words.empty() ? "its script" : run.shown.program;
  const std::string hint = "nothing was changed; --without-hooks leaves it out, and `hambrel verify` lists it then";
  const auto refuse = [&](const std::string& how) {
    const std::string words = last_words(end.output);
    throw Error(ErrorCode::Refused,
                fmt::format("{} failed: {} {}{}", who, what, how, words.empty() ? "" : ": " + words), {}, hint);
  };
  switch (end.kind) {
    case Kind::Exited: return refuse(fmt::format("returned {}", end.code));
    case Kind::Killed: return refuse(fmt::format("was ended by signal {}", end.code));
    case Kind::NotStarted: return refuse(fmt::format("could not be started ({})", end.problem));
    case Kind::TooLong: return refuse(fmt::format("took more than {} s ([hooks] seconds)", limits.seconds));
    case Kind::TooMany: return refuse(fmt::format("started more than {} processes", limits.processes));
    case Kind::TooLarge:
      return refuse(fmt::format("took more than {} MiB of memory ([hooks] memory_mebibytes)", limits.memory >> 20U));
    case Kind::TooMuch: return refuse(fmt::format("wrote more than {} MiB ([hooks] mebibytes)", limits.disk >> 20U));
    case Kind::TooManyFiles: return refuse(fmt::format("made more than {} files", limits.files));
    case Kind::Stopped: throw Error(ErrorCode::Declined, "interrupted; nothing was changed");
    case Kind::NoPreview:
      throw Error(ErrorCode::Refused, fmt::format("{} cannot be rehearsed here: {}", who, end.problem), {}, hint);
  }
}

/// What this run wrote, added to what the others did.
void RehearsalRun::attribute(const Run& run) {
  written_.clear();
  for (const auto& one : mounted_) {
    auto some = one->upper.all();
    std::move(some.begin(), some.end(), std::back_inserter(written_));
  }
  std::map<std::string, Stamp> stamps;
  for (const Written& one : written_) {
    // a directory's own time moves with what is made in it
    const bool whole = one.kind == Written::Kind::Directory;
    const Stamp stamp{one.info.inode, whole ? 0 : one.info.changed_seconds, whole ? 0 : one.info.changed_nanoseconds};
    stamps.emplace(one.path, stamp);
    const auto before = stamps_.find(one.path);
    if (before != stamps_.end() && before->second == stamp) continue;
    authors_[one.path] = {&run, true};
    require_allowed(run, one);
  }
  std::erase_if(authors_, [&](const auto& one) { return !stamps.contains(one.first); });
  HAMBREL_ASSERT(authors_.size() == stamps.size(), "all that is there was written by somebody");
  stamps_ = std::move(stamps);
}

void RehearsalRun::require_allowed(const Run& run, const Written& one) {
  const bool directory = one.kind == Written::Kind::Directory || one.kind == Written::Kind::Attributes;
  const std::string hint = "nothing was changed; tell the maintainer of the package";
  const char* const did = one.kind == Written::Kind::Gone ? "removed" : "wrote";
  if (!rehearsal::is_declared(run.shown.writes, one.path, one.kind == Written::Kind::Directory)) {
    if (planned_.terms.discard_undeclared) {
      authors_[one.path].kept = false;
      return;
    }
    throw Error(ErrorCode::Refused, fmt::format("{} {} this, which the package does not declare", name_of(run), did),
                "/" + printable(one.path), hint + ", or set `undeclared = \"discard\"` below [hooks] in hambrel.toml");
  }
  if (one.kind == Written::Kind::Strange)
    throw Error(ErrorCode::Refused, fmt::format("{} made something that is no file, directory or link", name_of(run)),
                "/" + printable(one.path), hint);
  constexpr std::uint32_t kSetId = 06000;
  const bool privileged =
      one.kind == Written::Kind::File && one.info.type == os::FileType::Regular &&
      ((one.info.mode & kSetId) != 0 || env_.root.attributes(one.place).contains("security.capability"));
  if (privileged)
    throw Error(ErrorCode::Refused,
                fmt::format("{} made a file that runs with the rights of another user", name_of(run)),
                "/" + printable(one.path), hint);
  constexpr std::uint32_t kForAll = 0002, kSticky = 01000;
  if (directory && (one.info.mode & (kForAll | kSticky)) == kForAll)
    throw Error(ErrorCode::Refused, fmt::format("{} made a directory that every user may change", name_of(run)),
                "/" + printable(one.path), hint);
  if (!path_problem(one.path).empty())
    throw Error(ErrorCode::Refused, fmt::format("{} wrote {}", name_of(run), path_problem(one.path)),
                "/" + printable(one.path), hint);
}

}  // namespace hambrel::txn
