// A root, a state and packages in memory, for tests of the transaction below the program.
#pragma once

#include <unistd.h>

#include <nlohmann/json.hpp>

#include "archive/package_writer.h"
#include "plan/plan_record.h"
#include "support/program.h"
#include "txn/engine.h"
#include "txn/rollback.h"
#include "txn/settle.h"
#include "txn/shelve.h"
#include "txn/undo.h"
#include "txn/verify.h"

namespace hambrel::test {

/// A package held in memory, with its reader.
struct Goods {
  Package package;
  std::unique_ptr<archive::PackageReader> reader;
  std::string content;  // of the package file
};

/// Builds a package of files (path -> content; a content "-> x" is a link, "= x" a hard link, a path ending in '/' a
/// directory); what lies in etc/ is configuration.
inline Goods goods(const std::string& name, const std::string& version,
                   const std::vector<std::pair<std::string, std::string>>& files, unsigned mode = 0644) {
  const TempDir directory;
  fs::create_directories(directory / "root");
  bool config = false;
  for (const auto& [path, content] : files) {
    const fs::path at = directory.path() / "root" / path;
    config = config || path.starts_with("etc/");
    fs::create_directories(at.parent_path());
    if (path.ends_with("/"))
      fs::create_directories(at);
    else if (content.starts_with("-> "))
      fs::create_symlink(content.substr(3), at);
    else if (content.starts_with("= "))
      fs::create_hard_link(directory.path() / "root" / content.substr(2), at);
    else
      write_file(at, content, mode);
  }
  set_times(directory / "root", 1'700'000'000);
  const PackageSource source = parse_package_toml("name = \"" + name + "\"\nversion = \"" + version +
                                                      "\"\narch = \"independent\"\nsummary = \"s\"\n" +
                                                      (config ? "[config]\nfiles = [\"etc/**\"]\n" : ""),
                                                  "package.toml");
  MemorySink sink;
  Observer silent;
  const auto fs = os::open_file_system(directory.text());
  Goods made;
  made.package = archive::write_package(*fs, "root", source, sink, {1, 0, 1}, silent).package;
  made.reader = std::make_unique<archive::PackageReader>(std::make_unique<os::MemoryFile>(sink.content), name);
  made.content = sink.content;
  return made;
}

/// Two renames of one directory by the kernel can fall into one tick of its clock, so times of directories are no
/// witness of what was done; they are of what was taken back.
inline std::map<std::string, std::string> without_directory_times(std::map<std::string, std::string> files) {
  for (auto& [path, facts] : files)
    if (facts.starts_with("40")) facts = facts.substr(0, facts.find(' ', facts.find(' ') + 1));
  return files;
}

/// No package file can be had.
inline txn::PackageFile nowhere(const state::StatePackage&) { return {}; }

class Workshop {
 public:
  static constexpr const char* kState = "var/lib/hambrel/state.sqlite";

  Workshop() {
    fs::create_directories(root_ / "var/lib/hambrel");
    fs = os::open_file_system(root_.text());
    open_state();
  }
  /// On a file system of the caller's.
  explicit Workshop(std::unique_ptr<os::FileSystem> files) : fs(std::move(files)) {
    fs->make_directories("var/lib/hambrel");
    open_state();
  }
  void open_state() {
    state.reset();
    state = std::make_unique<state::State>(*fs, kState, state::Access::Change);
  }
  fs::path operator/(const std::string& path) const { return root_ / path; }

  bool set_owners = geteuid() == 0;
  bool prepares = false;
  std::function<void(txn::EngineStep)> after_step = [](txn::EngineStep) {};
  txn::Environment environment(os::FileSystem& files) {
    txn::Environment made{files, *state, silent, set_owners, [] { return 1'750'000'000; }, after_step};
    if (!program.empty())
      made.run_program = [this, &files](const os::Preview& preview, auto&&...) {
        play(files, preview);
        return os::ProgramEnd{};
      };
    made.workers = 2;  // as it ships: several threads, and the state puts a step together while the disk is synced
    return made;
  }

  /// Each change has a hook that leaves files (path -> content; none: it removes it). No program is run: what it would
  /// have left in its layer is written there.
  std::map<std::string, std::optional<std::string>> program;

  /// What a change of packages would do to the files: those named leave, the goods enter.
  txn::TreeChange plan(const std::vector<const Goods*>& entering, const std::vector<std::string>& leaving = {}) {
    const auto going = rows(leaving);
    txn::TreeOptions options;
    options.workers = 2;
    options.choices = choices;
    if (purges)
      for (const auto& one : going) options.purge.insert(one.row);
    return txn::plan_tree(*fs, *state, going, entering_of(entering), options);
  }
  txn::Choices choices;  // about configuration, of changes from now on
  std::function<std::string(const plan::Plan&)> record = plan::record_of;  // what the ledger keeps of plans
  bool purges = false;  // edited configuration of what leaves goes, too

  /// The whole transaction, over a file system that may fail.
  state::TxnId change(os::FileSystem& files, const std::vector<const Goods*>& entering,
                      const std::vector<std::string>& leaving = {}) {
    const txn::TreeChange tree = plan(entering, leaving);
    std::vector<txn::Source> sources;
    std::vector<state::PackageChange> changes;
    auto going = rows(leaving);
    for (const Goods* one : entering) {
      sources.push_back({one->package, one->reader.get()});
      state::PackageChange change;
      change.name = one->package.name;
      change.after = state::StatePackage{0, one->package, Reason::Wanted, "test", {}, 0};
      change.files = one->reader->contents().files();
      for (const state::StatePackage& old : going)
        if (old.package.name == change.name) {
          change.before = old;
          change.before_row = old.row;
        }
      changes.push_back(std::move(change));
    }
    for (const state::StatePackage& old : going) {
      if (std::any_of(changes.begin(), changes.end(), [&](const auto& one) { return one.name == old.package.name; }))
        continue;
      state::PackageChange change;
      change.name = old.package.name;
      change.before = old;
      change.before_row = old.row;
      changes.push_back(std::move(change));
    }
    txn::Planned planned;
    planned.tree = tree;
    planned.sources = sources;
    planned.changes = changes;
    planned.tell_of_files();
    if (!program.empty()) planned.runs.hooks.push_back(hook());
    return run(files, planned, "test");
  }

  /// Switched to at once; with `prepares` it is only prepared, for activate().
  state::TxnId run(os::FileSystem& files, const txn::Planned& planned, const std::string& kind) {
    txn::Account account;
    account.kind = kind;
    account.record = record(planned.plan);
    txn::Planned own = planned;
    if (!prepares) return txn::Engine(environment(files)).run(own, account);
    txn::Engine(environment(files)).prepare(planned, account);
    return state->last_done();
  }
  state::TxnId activate(os::FileSystem& files) {
    return txn::Engine(environment(files)).activate(state->prepared().value());
  }

  state::TxnId undo(os::FileSystem& files, state::TxnId id) {
    return run(files, txn::plan_undo(*fs, *state, id), "undo");
  }

  state::TxnId roll_back(os::FileSystem& files, state::TxnId to) {
    return run(files, txn::plan_rollback(*fs, *state, to, nowhere), "rollback");
  }

  /// What waits, or is edited, by these choices.
  state::TxnId settle(os::FileSystem& files, const txn::Choices& by) {
    return run(files, txn::plan_settle(*fs, *state, txn::configuration_files(*fs, *state), by, nowhere), "settle");
  }

  state::TxnId shelve(os::FileSystem& files, const std::vector<std::string>& names) {
    return run(files, txn::plan_shelve(*fs, *state, rows(names)), "shelve");
  }

  state::TxnId give_up(os::FileSystem& files, const std::vector<state::TxnId>& attics) {
    txn::Account account;
    account.kind = state::kGivingUp;
    account.record = "{}";
    return txn::Engine(environment(files)).give_up(attics, account);
  }

  /// Puts right what is damaged, from the attic and these.
  state::TxnId repair(os::FileSystem& files, const std::vector<const Goods*>& goods) {
    const auto packages = state->installed();
    const auto verified = txn::verify(*fs, *state, packages, txn::Depth::Content, 1, silent);
    const auto file_of = [&](const state::StatePackage& wanted) -> txn::PackageFile {
      for (const Goods* one : goods)
        if (one->package.title() == wanted.package.title()) return {one->reader.get(), true};
      return {};
    };
    return run(files, txn::plan_repair(*fs, *state, packages, verified, file_of), "repair");
  }

  void recover(os::FileSystem& files) { txn::Engine(environment(files)).recover(); }

  std::map<std::string, std::string> files() const {
    auto all = tree(root_.path(), {"var/lib/hambrel"});
    for (const auto& [path, facts] : tree(root_ / "var/lib/hambrel", {"stage", "attic", "ledger", "pristine",
                                                                      "state.sqlite", "state.sqlite-journal"}))
      all["var/lib/hambrel/" + path] = facts;
    return all;
  }
  std::string installed() const {
    std::string text;
    for (const auto& one : state->installed()) text += one.package.title() + " ";
    return text;
  }

  std::unique_ptr<os::FileSystem> fs;
  std::unique_ptr<state::State> state;

 private:
  rehearsal::Run hook() const {
    rehearsal::Run run;
    run.shown.kind = plan::Run::Kind::Hook;
    run.shown.package = "desk";
    run.shown.occasion = "install";
    run.shown.program = "/usr/bin/desk";
    run.shown.writes = {"var/**"};
    run.program.words = {"/usr/bin/desk"};
    return run;
  }
  void play(os::FileSystem& files, const os::Preview& preview) const {
    const std::string whole = files.real_path("");
    for (const auto& [path, content] : program) {
      const os::PreviewLayer* layer = nullptr;  // the one of the file system that it lies on
      for (const os::PreviewLayer& one : preview.layers)
        if (one.at.empty() || path.starts_with(one.at + "/")) layer = &one;
      const std::string below = layer->at.empty() ? path : path.substr(layer->at.size() + 1);
      const std::string place = layer->upper.substr(whole == "/" ? 1 : whole.size() + 1) + "/" + below;
      files.make_directories(os::parent_of(place));
      if (content) {
        files.create(place, 0644)->write(*content);
        files.set_mtime(place, 1'700'000'000, 0);
      } else
        files.make_whiteout(place);
    }
  }
  std::vector<state::StatePackage> rows(const std::vector<std::string>& names) const {
    std::vector<state::StatePackage> result;
    for (const auto& one : state->installed())
      if (std::find(names.begin(), names.end(), one.package.name) != names.end()) result.push_back(one);
    return result;
  }
  static std::vector<txn::Entering> entering_of(const std::vector<const Goods*>& goods) {
    std::vector<txn::Entering> result;
    for (const Goods* one : goods) result.push_back({one->package, one->reader->contents().files()});
    return result;
  }

  TempDir root_;
  Observer silent;
};

}  // namespace hambrel::test
