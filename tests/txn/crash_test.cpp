// The power goes at every operation of a transaction, files and database on one disk: what was not synced is lost, kept
// or torn, by turns. After recovery the root is exactly as before or exactly as planned, and the state says the same.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include "state/vfs.h"
#include "support/crash_fs.h"
#include "txn/invariants.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::CrashFs;
using test::Goods;
using test::goods;
using test::Workshop;
using Loss = CrashFs::Loss;

namespace {

/// The database on a disk, read by the test's own code. It is opened once: that takes longer than a question.
class Database {
 public:
  explicit Database(os::FileReader& disk) : vfs_(disk, Workshop::kState) {
    EXPECT_EQ(sqlite3_open_v2(state::Vfs::kDatabase, &opened_, SQLITE_OPEN_READWRITE, vfs_.name().c_str()), SQLITE_OK);
  }
  ~Database() { sqlite3_close(opened_); }
  Database(const Database&) = delete;
  Database& operator=(const Database&) = delete;

  /// One line for each row, of one column.
  std::string rows(const char* query) const {
    std::string text;
    const auto put = [](void* to, int, char** values, char**) {
      *static_cast<std::string*>(to) += std::string(values[0] == nullptr ? "" : values[0]) + "\n";
      return 0;
    };
    EXPECT_EQ(sqlite3_exec(opened_, query, put, &text, nullptr), SQLITE_OK) << sqlite3_errmsg(opened_);
    return text;
  }

 private:
  state::Vfs vfs_;
  sqlite3* opened_ = nullptr;
};

struct Lab {
  CrashFs* disk;
  Workshop shop;
  explicit Lab(const std::vector<std::string>& mounts = {}) : Lab(std::make_unique<CrashFs>(mounts)) {}
  explicit Lab(const CrashFs& like) : Lab(std::make_unique<CrashFs>(like)) {}

  void put(const std::string& path, const std::string& text) {
    disk->make_directories(os::parent_of(path));
    disk->create(path, 0644)->write(text);
  }
  /// Files without the transaction's own, and what the database says.
  std::string account() const {
    std::string text;
    std::vector<std::string> without{"var/lib/hambrel"};
    for (const std::string& mount : disk->mount_points()) without.push_back(mount + "/.hambrel");
    for (const auto& [path, facts] : disk->tree(without)) text += path + " " + facts + "\n";
    for (const auto& [path, facts] : disk->tree({"var/lib/hambrel/stage", "var/lib/hambrel/attic"}))
      if (path.starts_with("var/lib/hambrel/configs")) text += path + " " + facts + "\n";
    const Database database(*disk);
    text += database.rows(
        "SELECT name || ' ' || version || ' ' || reason FROM packages WHERE state = 'installed' ORDER BY 1");
    // all that is known of each file, and the index of paths, which is as good as the packages that it leads to
    text += database.rows(
        "SELECT p.name || ' ' || hex(l.list) FROM lists l JOIN packages p ON p.id = l.package AND p.state = "
        "'installed' ORDER BY 1");
    text += database.rows("SELECT path || ' ' || value FROM generated ORDER BY 1");
    text += database.rows("SELECT 'prepared after ' || after FROM prepared WHERE activated IS NULL");
    text += database.rows("SELECT 'given up ' || txn FROM attics WHERE dropped IS NOT NULL ORDER BY txn");
    return text + database.rows(
                      "SELECT o.hash || ' ' || coalesce(p.name, 'nobody') FROM (SELECT hash, slot FROM paths UNION ALL"
                      " SELECT hash, slot FROM more_paths) o LEFT JOIN packages p ON p.slot = o.slot AND"
                      " p.state = 'installed' ORDER BY 1");
  }
  /// What stands apart from the account: nothing unfinished, a sound database, a whole chain, nothing left lying about.
  void expect_settled() const {
    const Database database(*disk);
    EXPECT_EQ(database.rows("PRAGMA integrity_check"), "ok\n");
    EXPECT_EQ(database.rows("SELECT count(*) FROM journal"), "0\n");
    Digest previous;
    auto entries = shop.state->ledger(1000);
    for (auto entry = entries.rbegin(); entry != entries.rend(); ++entry) {
      EXPECT_EQ(entry->previous, previous);
      EXPECT_EQ(entry->digest, state::chain_digest(*entry, shop.state->changes_told(entry->id)));
      previous = entry->digest;
    }
    for (const std::string& home : StagingHomes::all(*disk))
      for (const std::string& attic :
           disk->stat(home + "/attic") ? disk->list(home + "/attic") : decltype(disk->list("")){})
        EXPECT_FALSE(shop.state->given_up(state::TxnId{std::stoll(attic)})) << "R3: " << home << attic;
    for (const auto& package : shop.state->installed())
      for (const FileEntry& file : shop.state->configuration_of(package.row))
        EXPECT_TRUE(find_pristine(*disk, file.digest)) << "what /" << file.path << " began from";
    const bool waits = shop.state->prepared().has_value();
    for (const std::string& home : StagingHomes::all(*disk))
      for (const std::string& stage :
           disk->stat(home + "/stage") ? disk->list(home + "/stage") : decltype(disk->list("")){})
        EXPECT_TRUE(waits && stage == "prepared-1") << home << stage;
  }

 private:
  explicit Lab(std::unique_ptr<CrashFs> fresh) : disk(fresh.get()), shop(std::move(fresh)) { shop.set_owners = true; }
};

struct Story {
  const char* name;
  std::vector<std::string> mounts;
  std::function<void(Lab&)> before, work;
};

void PrintTo(const Story& story, std::ostream* to) { *to << story.name; }

state::TxnId last_of(Lab& lab) { return lab.shop.state->ledger(1).at(0).id; }

/// Goods are made once: packing takes longer than crashing.
const Goods& lib(int version) {
  static const Goods one = goods("lib", "1",
                                 {{"usr/lib/l", "one"},
                                  {"usr/share/l/a/b", "deep"},
                                  {"usr/lib/h1", "h"},
                                  {"usr/lib/h2", "= usr/lib/h1"},
                                  {"usr/lib/s", "-> l"},
                                  {"usr/lib/kind", "a file"}});
  static const Goods two = goods("lib", "2",
                                 {{"usr/lib/l", "two"},
                                  {"usr/share/l/a", "a file now"},
                                  {"usr/lib/n/new", "n"},
                                  {"usr/lib/h1", "H"},
                                  {"usr/lib/h2", "= usr/lib/h1"},
                                  {"usr/lib/s", "a file"},
                                  {"usr/lib/kind/now", "a directory"}});
  return version == 1 ? one : two;
}
const Goods& desk(int version) {
  static const Goods one =
      goods("desk", "1", {{"usr/bin/desk", "d"}, {"etc/desk", "c\n"}, {"boot/image", "1"}, {"boot/d/x", "x"}});
  static const Goods two =
      goods("desk", "2", {{"usr/bin/desk", "D"}, {"etc/desk", "C\n"}, {"boot/image", "2"}, {"boot/e/y", "y"}});
  return version == 1 ? one : two;
}
const std::vector<Goods>& fleet(int version) {
  static const auto build = [](int number) {
    std::vector<Goods> all;
    for (int i = 0; i < 30; ++i) {
      const std::string name = "ship-" + std::to_string(i), at = "usr/share/" + name;
      all.push_back(
          goods(name, std::to_string(number), {{at + "/hull", name + std::to_string(number)}, {at + "/log", "same"}}));
    }
    return all;
  };
  static const auto one = build(1), two = build(2);
  return version == 1 ? one : two;
}
void fleet_sails(Lab& lab, int version) {
  std::vector<const Goods*> coming;
  std::vector<std::string> leaving;
  for (const Goods& ship : fleet(version)) {
    coming.push_back(&ship);
    if (version > 1) leaving.push_back(ship.package.name);
  }
  lab.shop.change(*lab.disk, coming, leaving);
}

void install_all(Lab& lab) { lab.shop.change(*lab.disk, {&lib(1), &desk(1)}); }
void upgrade_lib(Lab& lab) { lab.shop.change(*lab.disk, {&lib(2)}, {"lib"}); }
void upgrade_desk(Lab& lab) { lab.shop.change(*lab.disk, {&desk(2)}, {"desk"}); }
void upgrade_both(Lab& lab) { lab.shop.change(*lab.disk, {&lib(2), &desk(2)}, {"lib", "desk"}); }
void remove_all(Lab& lab) { lab.shop.change(*lab.disk, {}, {"lib", "desk"}); }
void undo_last(Lab& lab) { lab.shop.undo(*lab.disk, last_of(lab)); }
void roll_back(Lab& lab) { lab.shop.roll_back(*lab.disk, state::TxnId{1}); }
void damage(Lab& lab) {
  lab.disk->remove_tree("usr/share/l");
  lab.disk->remove_file("usr/lib/h1");
  lab.disk->remove_file("usr/lib/s");
  lab.disk->remove_file("usr/bin/desk");
  lab.put("usr/bin/desk", "broken");
  lab.disk->set_mode("boot/d", 0700);
}
void repair(Lab& lab) { lab.shop.repair(*lab.disk, {&lib(1), &desk(1)}); }
/// What the work does is only prepared.
std::function<void(Lab&)> prepared(const std::function<void(Lab&)>& work) {
  return [work](Lab& lab) {
    lab.shop.prepares = true;
    work(lab);
    lab.shop.prepares = false;
  };
}
/// With a program of a package that writes these files meanwhile.
std::function<void(Lab&)> while_it_writes(const std::function<void(Lab&)>& work, const std::string& content) {
  return [work, content](Lab& lab) {
    lab.shop.program = {{"var/made/index", content}, {"var/made/deep/" + content, content}};
    work(lab);
    lab.shop.program.clear();
  };
}
void shelve_both(Lab& lab) { lab.shop.shelve(*lab.disk, {"lib", "desk"}); }
void give_up_two(Lab& lab) { lab.shop.give_up(*lab.disk, {state::TxnId{1}, state::TxnId{2}}); }
void activate(Lab& lab) { lab.shop.activate(*lab.disk); }
void some_files(Lab& lab) {
  lab.put("usr/bin/mine", "mine");
  lab.put("usr/share/foreign/x", "x");
}
void edited(Lab& lab) {
  install_all(lab);
  lab.disk->remove_file("etc/desk");
  lab.put("etc/desk", "edited\n");
}
const Goods& moved_desk() {
  static const Goods three = goods("desk", "3", {{"usr/bin/desk", "D"}, {"etc/desk/main/desk", "C\n"}});
  return three;
}
void merge_at(Lab& lab, const char* path) { lab.shop.choices[path] = {plan::ConfigAction::Merge, "merged\n"}; }
void upgrade_merging(Lab& lab) {
  merge_at(lab, "etc/desk");
  upgrade_desk(lab);
}
void upgrade_moving(Lab& lab) {
  merge_at(lab, "etc/desk/main/desk");
  lab.shop.change(*lab.disk, {&moved_desk()}, {"desk"});
}
void upgrade_carrying(Lab& lab) { lab.shop.change(*lab.disk, {&moved_desk()}, {"desk"}); }
void settle_by_taking(Lab& lab) { lab.shop.settle(*lab.disk, {{"etc/desk", {plan::ConfigAction::Take, {}}}}); }
void purge(Lab& lab) {
  lab.shop.purges = true;
  remove_all(lab);
  lab.shop.purges = false;
}
void foreign_in_the_way(Lab& lab) {
  lab.put("usr/bin/desk", "nobody's");
  lab.put("etc/desk", "nobody's\n");
}
void linked(Lab& lab) {
  lab.disk->make_directories("usr/real");
  lab.disk->make_symlink("real", "usr/lib");
}

template <typename... Works>
std::function<void(Lab&)> both(Works... works) {
  return [=](Lab& lab) { (works(lab), ...); };
}

const std::vector<Story>& stories() {
  static const std::vector<Story> all{
      {"install", {}, some_files, install_all},
      {"install over files that nobody owns", {}, foreign_in_the_way, install_all},
      {"install below a link", {}, linked, install_all},
      {"install on three file systems", {"boot", "usr"}, some_files, install_all},
      {"upgrade of every kind of path", {}, install_all, upgrade_lib},
      {"upgrade beside edited configuration", {}, edited, upgrade_desk},
      {"upgrade on three file systems", {"boot", "usr"}, install_all, upgrade_desk},
      {"upgrade that merges configuration", {"etc"}, edited, upgrade_merging},
      {"upgrade that merges configuration elsewhere", {}, edited, upgrade_moving},
      {"upgrade that takes configuration along", {}, edited, upgrade_carrying},
      {"settling what waits", {"etc"}, both(edited, upgrade_desk), settle_by_taking},
      {"purge", {}, edited, purge},
      {"rollback past a settling and a purge",
       {},
       both(edited, upgrade_desk, settle_by_taking, purge),
       [](Lab& lab) { lab.shop.roll_back(*lab.disk, state::TxnId{2}); }},
      {"upgrade of 30 packages", {}, [](Lab& lab) { fleet_sails(lab, 1); }, [](Lab& lab) { fleet_sails(lab, 2); }},
      {"removal", {}, both(some_files, install_all), remove_all},
      {"removal on three file systems", {"boot", "usr"}, install_all, remove_all},
      {"undo of an upgrade", {}, both(install_all, upgrade_lib), undo_last},
      {"undo of a removal on three file systems", {"boot", "usr"}, both(install_all, remove_all), undo_last},
      {"undo of an installation", {}, install_all, undo_last},
      {"rollback past two upgrades and a removal",
       {},
       both(install_all, upgrade_lib, upgrade_desk, remove_all),
       roll_back},
      {"preparing on three file systems", {"boot", "usr"}, install_all, prepared(upgrade_both)},
      {"activating on three file systems", {"boot", "usr"}, both(install_all, prepared(upgrade_both)), activate},
      {"activating an undo", {}, both(install_all, upgrade_lib, prepared(undo_last)), activate},
      {"shelving on three file systems", {"boot", "usr"}, install_all, shelve_both},
      {"coming unshelved", {}, both(install_all, shelve_both), roll_back},
      {"giving up attics", {"boot"}, both(install_all, upgrade_lib, upgrade_desk), give_up_two},
      {"install with a hook", {}, some_files, while_it_writes(install_all, "old")},
      {"upgrade with a hook that changes what it made",
       {},
       while_it_writes(install_all, "old"),
       while_it_writes(upgrade_lib, "new")},
      {"undo of that", {}, both(while_it_writes(install_all, "old"), while_it_writes(upgrade_lib, "new")), undo_last},
      {"upgrade with a hook on three file systems",
       {"usr", "var"},
       while_it_writes(install_all, "old"),
       while_it_writes(upgrade_both, "new")},
      {"preparing what was rehearsed", {}, install_all, prepared(while_it_writes(upgrade_both, "new"))},
      {"activating what was rehearsed",
       {},
       both(install_all, prepared(while_it_writes(upgrade_both, "new"))),
       activate},
      {"repair", {}, both(install_all, damage), repair},
      {"repair on three file systems", {"boot", "usr"}, both(install_all, damage), repair},
      {"rollback on three file systems", {"boot", "usr"}, both(install_all, upgrade_lib, upgrade_desk), roll_back}};
  return all;
}

void until_the_power_goes(Lab& lab, const std::function<void(Lab&)>& work) {
  try {
    work(lab);
  } catch (const Error& e) {  // judged by what is on the disk
  }
}

/// The work until the power goes at this operation, and what is then on the disk or not.
CrashFs::InDoubt crash(Lab& lab, std::uint64_t operation, const std::function<void(Lab&)>& work) {
  lab.disk->crash_at(operation);
  until_the_power_goes(lab, work);
  lab.shop.state.reset();
  return lab.disk->in_doubt();
}

void start_again(Lab& lab) {
  {  // whoever only looks is answered before anything was put right
    const state::State looking(*lab.disk, Workshop::kState, state::Access::Look);
    looking.installed();
  }
  lab.shop.open_state();
}

constexpr Loss kLosses[] = {Loss::Nothing, Loss::Everything, Loss::Content, Loss::Some, Loss::Some};

}  // namespace

class Crash : public testing::TestWithParam<Story> {
 protected:
  Crash() : prepared_(GetParam().mounts), ready_(make_ready()) {
    before_ = prepared_.account();
    prepared_.disk->crash_at(0);
    prepared_.shop.after_step = [&](txn::EngineStep now) {
      const std::string step(text_of(now));
      ++steps_;
      const auto staging = step == "staged" || step == "rehearsed" || step == "synced"
                               ? std::optional(prepared_.shop.state->next_id())
                               : std::nullopt;
      EXPECT_THAT(broken_invariants(*prepared_.disk, *prepared_.shop.state, staging), testing::IsEmpty()) << step;
    };
    GetParam().work(prepared_);
    EXPECT_GE(steps_, 2);  // giving up attics has no more
    after_ = prepared_.account();
    operations_ = prepared_.disk->operations();
  }

  /// Exactly one of the two, and nothing left over.
  void expect_whole(const Lab& lab) {
    const std::string now = lab.account();
    if (now != before_) {
      EXPECT_EQ(now, after_);
    }
    lab.expect_settled();
    EXPECT_THAT(broken_invariants(*lab.disk, *lab.shop.state), testing::IsEmpty());
    (now == before_ ? was_before_ : was_after_) = true;
    ++cases_;
  }

  Lab prepared_;
  const CrashFs ready_;  // with everything before the work done, and on the disk
  std::string before_, after_;
  std::uint64_t operations_ = 0;
  int steps_ = 0;
  bool was_before_ = false, was_after_ = false;
  int cases_ = 0;

 private:
  const CrashFs& make_ready() {
    GetParam().before(prepared_);
    for (const std::string& mount : GetParam().mounts) prepared_.disk->sync_all(mount);
    prepared_.disk->sync_all("");
    return *prepared_.disk;
  }
};

TEST_P(Crash, AtEveryOperationTheRootIsAsBeforeOrAsPlanned) {
  ASSERT_NE(before_, after_);
  std::set<Digest> seen;  // what becomes of a disk is the same each time
  for (std::uint64_t n = 1; n <= operations_; ++n) {
    Lab lab(ready_);
    const auto doubt = crash(lab, n, GetParam().work);
    ASSERT_TRUE(lab.disk->crashed());
    for (std::size_t way = 0; way < std::size(kLosses); ++way) {
      lab.shop.state.reset();
      lab.disk->reboot(doubt, kLosses[way], n * 16 + way);
      if (!seen.insert(lab.disk->fingerprint()).second) continue;
      start_again(lab);
      lab.shop.recover(*lab.disk);
      expect_whole(lab);
      ASSERT_FALSE(HasFailure()) << "crash at " << n << " of " << operations_ << ", loss " << way;
    }
  }
  EXPECT_TRUE(was_before_);
  EXPECT_TRUE(was_after_);
  std::printf("%ju crashes, %zu disks\n", static_cast<std::uintmax_t>(operations_ * std::size(kLosses)), seen.size());
}

TEST_P(Crash, RecoveryMayLoseThePowerAnywhereToo) {
  for (std::uint64_t n = 1; n <= operations_; n += std::max<std::uint64_t>(1, operations_ / 12)) {
    Lab lab(ready_);
    const auto first = crash(lab, n, GetParam().work);
    bool again = true;
    for (std::uint64_t m = 1; again; m += 1 + m / 8) {
      lab.shop.state.reset();
      lab.disk->reboot(first, kLosses[m % 5], n);
      start_again(lab);
      const auto second = crash(lab, m, [](Lab& it) { it.shop.recover(*it.disk); });
      again = lab.disk->crashed();
      lab.disk->reboot(second, again ? kLosses[(n + m) % 5] : Loss::Nothing, m);
      start_again(lab);
      lab.shop.recover(*lab.disk);
      expect_whole(lab);
      ASSERT_FALSE(HasFailure()) << "crashes at " << n << " and " << m;
    }
  }
  std::printf("%d double crashes\n", cases_);
}

INSTANTIATE_TEST_SUITE_P(Stories, Crash, testing::ValuesIn(stories()), [](const auto& one) {
  std::string name = one.param.name;
  std::replace(name.begin(), name.end(), ' ', '_');
  return name;
});

}  // namespace hambrel::txn
