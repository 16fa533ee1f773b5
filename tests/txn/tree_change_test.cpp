// The rules C1 to C6 of tree_change.h, each on a real directory.
#include "txn/tree_change.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "base/error.h"
#include "txn/workshop.h"

namespace hambrel::txn {

using test::goods;
using test::refusal;
using test::Workshop;
using test::write_file;

namespace {

std::string moves_of(const TreeChange& change) {
  static constexpr const char* kNames[] = {"place", "exchange", "remove", "attributes"};
  std::string text;
  for (const PlannedMove& move : change.moves)
    text += fmt::format("{} {}\n", kNames[static_cast<int>(move.kind)], move.path);
  return text;
}

std::string configs_of(const TreeChange& change) {
  std::string text;
  for (const plan::ConfigStep& one : change.configs) text += std::string(text_of(one.action)) + " " + one.path + "\n";
  return text;
}

std::string notices_of(const TreeChange& change) {
  std::string text;
  for (const plan::Notice& notice : change.notices) text += notice.text() + "\n";
  return text;
}

}  // namespace

TEST(TreeChange, C1_TwoPackagesWithOnePathAreRefusedByName) {
  Workshop shop;
  const auto one = goods("one", "1", {{"usr/bin/x", "1"}, {"usr/share/both/", ""}});
  const auto two = goods("two", "1", {{"usr/bin/x", "2"}, {"usr/share/both/", ""}});
  EXPECT_EQ(refusal([&] { shop.plan({&one, &two}); }), "/usr/bin/x: both one and two have this file");
  shop.change(*shop.fs, {&one});
  EXPECT_EQ(refusal([&] { shop.plan({&two}); }), "/usr/bin/x: two has this file, which belongs to one");
  EXPECT_EQ(refusal([&] { shop.plan({&two}, {"one"}); }), "accepted");
}

TEST(TreeChange, C2_OnlyWhatChangedIsTouched) {
  Workshop shop;
  const auto one = goods("p", "1",
                         {{"usr/a", "same"},
                          {"usr/b", "old"},
                          {"usr/l", "-> a"},
                          {"usr/h1-under-a-longer-name", "h"},
                          {"usr/h2", "= usr/h1-under-a-longer-name"}});
  const auto two = goods("p", "2",
                         {{"usr/a", "same"},
                          {"usr/b", "new"},
                          {"usr/l", "-> a"},
                          {"usr/h1-under-a-longer-name", "h"},
                          {"usr/h2", "= usr/h1-under-a-longer-name"}});
  const auto three = goods("p", "3",
                           {{"usr/a", "same"},
                            {"usr/b", "new"},
                            {"usr/l", "-> b"},
                            {"usr/h1-under-a-longer-name", "H"},
                            {"usr/h2", "= usr/h1-under-a-longer-name"}});
  shop.change(*shop.fs, {&one});
  EXPECT_EQ(moves_of(shop.plan({&two}, {"p"})), "exchange usr/b\n");
  EXPECT_EQ(moves_of(shop.plan({&three}, {"p"})),
            "exchange usr/b\nexchange usr/h1-under-a-longer-name\nexchange usr/h2\nexchange usr/l\n");
  write_file(shop / "usr/a", "damaged by hand");  // what no longer looks as it should is put right on the way
  EXPECT_EQ(moves_of(shop.plan({&two}, {"p"})), "exchange usr/a\nexchange usr/b\n");
  EXPECT_EQ(notices_of(shop.plan({&two}, {"p"})), "/usr/a was changed since: that version is moved to the attic\n");
  EXPECT_EQ(notices_of(shop.plan({}, {"p"})), "/usr/a was changed since: that version is moved to the attic\n");
}

TEST(TreeChange, C3_EveryStateOfAConfigurationFile) {
  Workshop shop;
  const auto one = goods("p", "1", {{"etc/c", "package one\n"}});
  const auto same = goods("p", "1.1", {{"etc/c", "package one\n"}, {"usr/x", ""}});
  const auto two = goods("p", "2", {{"etc/c", "package two\n"}});
  write_file(shop / "etc/other", "so that etc exists");
  shop.change(*shop.fs, {&one});
  EXPECT_EQ(moves_of(shop.plan({&two}, {"p"})), "exchange etc/c\n") << "pristine: follows the package";
  EXPECT_EQ(moves_of(shop.plan({}, {"p"})), "remove etc/c\n");
  write_file(shop / "etc/c", "package two\n");
  EXPECT_EQ(moves_of(shop.plan({&two}, {"p"})), "") << "already what the package brings";
  write_file(shop / "etc/c", "mine\n");
  TreeChange change = shop.plan({&two}, {"p"});
  EXPECT_EQ(moves_of(change), "place var/lib/hambrel/configs\n");
  EXPECT_EQ(configs_of(change), "wait etc/c\n");
  change = shop.plan({&same}, {"p"});
  EXPECT_EQ(moves_of(change), "place usr\n");
  EXPECT_EQ(notices_of(change), "/etc/c was edited: your version stays\n");
  EXPECT_EQ(notices_of(shop.plan({}, {"p"})),
            "/etc/c was edited and is kept; `hambrel remove --purge p` removes it, too\n/etc stays: it "
            "contains files no package owns\n");
  std::filesystem::remove(shop / "etc/c");
  change = shop.plan({&two}, {"p"});
  EXPECT_EQ(moves_of(change), "");
  EXPECT_EQ(notices_of(change), "/etc/c: you deleted it; it will not be restored\n");
}

TEST(TreeChange, C3_ALeftoverMeetsItsPackageAgain) {
  Workshop shop;
  const auto one = goods("p", "1", {{"etc/c", "package\n"}});
  write_file(shop / "etc/c", "mine\n");
  EXPECT_EQ(configs_of(shop.plan({&one})), "wait etc/c\n");
}

TEST(TreeChange, C3_AnUndoLeavesWhatWaitsForOthers) {
  Workshop shop;
  write_file(shop / "etc/a", "mine\n");
  write_file(shop / "etc/b", "mine\n");
  const auto a = goods("a", "1", {{"etc/a", "package\n"}}), b = goods("b", "1", {{"etc/b", "package\n"}});
  const auto first = shop.change(*shop.fs, {&a});
  shop.change(*shop.fs, {&b});
  shop.undo(*shop.fs, first);
  EXPECT_FALSE(std::filesystem::exists(shop / "var/lib/hambrel/configs/waiting/etc/a"));
  EXPECT_EQ(test::read_file(shop / "var/lib/hambrel/configs/waiting/etc/b"), "package\n");
}

TEST(TreeChange, C4_AFileOfNobodysGoesToTheAtticAndIsSaid) {
  Workshop shop;
  const auto one = goods("p", "1", {{"usr/x", "package"}});
  write_file(shop / "usr/x", "mine");
  const TreeChange change = shop.plan({&one});
  EXPECT_EQ(moves_of(change), "exchange usr/x\n");
  EXPECT_EQ(notices_of(change), "/usr/x is not owned by any package: it is moved to the attic, p has its own\n");
}

TEST(TreeChange, C5_WhatIsOfTheOtherKindAndNotOursIsRefused) {
  Workshop shop;
  const auto file = goods("p", "1", {{"usr/x", "a file"}});
  const auto directory = goods("p", "2", {{"usr/x/y", "in a directory"}});
  write_file(shop / "usr/x/mine", "m");
  EXPECT_EQ(refusal([&] { shop.plan({&file}); }), "/usr/x: there is a directory where p has a file");
  std::filesystem::remove_all(shop / "usr/x");
  write_file(shop / "usr/x", "m");
  EXPECT_EQ(refusal([&] { shop.plan({&directory}); }), "/usr/x: there is a file where p has a directory");
  std::filesystem::remove_all(shop / "usr/x");
  shop.change(*shop.fs, {&directory});
  EXPECT_EQ(moves_of(shop.plan({&file}, {"p"})), "remove usr/x/y\nexchange usr/x\n");
  write_file(shop / "usr/x/mine", "m");
  EXPECT_EQ(refusal([&] { shop.plan({&file}, {"p"}); }),
            "/usr/x/mine: a directory that becomes a file still contains files no package owns");
}

TEST(TreeChange, C5_DirectoriesGoWhenTheyAreEmptyAndStayWhenShared) {
  Workshop shop;
  const auto one = goods("one", "1", {{"usr/share/a/x", ""}, {"usr/share/both/one", ""}});
  const auto two = goods("two", "1", {{"usr/share/both/two", ""}});
  shop.change(*shop.fs, {&one, &two});
  EXPECT_EQ(moves_of(shop.plan({}, {"one"})), "remove usr/share/both/one\nremove usr/share/a/x\nremove usr/share/a\n");
  EXPECT_EQ(notices_of(shop.plan({}, {"one"})), "");
  write_file(shop / "usr/share/a/mine", "");
  EXPECT_EQ(notices_of(shop.plan({}, {"one"})), "/usr/share/a stays: it contains files no package owns\n");
}

TEST(TreeChange, C6_AWholeNewDirectoryIsOneRename) {
  Workshop shop;
  const auto one = goods("one", "1", {{"usr/share/a/x", ""}, {"usr/share/a/b/y", ""}, {"usr/bin/p", ""}});
  EXPECT_EQ(moves_of(shop.plan({&one})), "place usr\n");
  std::filesystem::create_directories(shop / "usr/share");
  EXPECT_EQ(moves_of(shop.plan({&one})), "place usr/bin\nplace usr/share/a\n");
}

TEST(Undo, OfManyDirectoriesTakesThemAsOneUnlessSomethingOfNobodysIsInOne) {
  Workshop shop;
  std::vector<std::pair<std::string, std::string>> many;
  for (int i = 0; i < 260; ++i) many.emplace_back(fmt::format("usr/all/d{}/x", i), "x");
  const auto one = goods("one", "1", many);
  const auto id = shop.change(*shop.fs, {&one});
  const auto whole = plan_undo(*shop.fs, *shop.state, id);
  ASSERT_EQ(whole.moves.size(), 1U);
  EXPECT_EQ(whole.moves[0].path, "usr");
  EXPECT_TRUE(whole.plan.notices.empty());
  write_file(shop / "usr/all/d213/mine", "mine");
  std::string notices;
  for (const plan::Notice& notice : plan_undo(*shop.fs, *shop.state, id).plan.notices) notices += notice.text() + "\n";
  EXPECT_EQ(notices, "/usr/all/d213 stays: it contains files no package owns\n");
  shop.undo(*shop.fs, id);
  EXPECT_EQ(test::read_file(shop / "usr/all/d213/mine"), "mine");
  std::size_t left = 0;
  for (const auto& found : std::filesystem::recursive_directory_iterator(shop / "usr")) left += found.exists() ? 1 : 0;
  EXPECT_EQ(left, 3U) << "all, d213 and mine";
}

TEST(TreeChange, AnAdministratorsLinkToADirectoryIsFollowedAndKept) {
  Workshop shop;
  std::filesystem::create_directories(shop / "usr/lib");
  std::filesystem::create_symlink("usr/lib", shop / "lib");
  const auto one = goods("one", "1", {{"lib/x.so", "x"}});
  const auto before = shop.files();
  const auto id = shop.change(*shop.fs, {&one});
  EXPECT_EQ(test::read_file(shop / "usr/lib/x.so"), "x");
  EXPECT_TRUE(std::filesystem::is_symlink(shop / "lib"));
  shop.undo(*shop.fs, id);
  EXPECT_EQ(shop.files(), before);
}

TEST(TreeChange, TheModeOfADirectoryFollowsItsPackageAndComesBack) {
  Workshop shop;
  const auto one = goods("p", "1", {{"var/p/x", ""}});
  auto two = goods("p", "2", {{"var/p/x", ""}});
  shop.change(*shop.fs, {&one});
  // a list with another mode for the directory, as a newer package would have it
  std::vector<FileEntry> files = two.reader->contents().files().entries();
  for (FileEntry& entry : files)
    if (entry.path == "var/p") entry.mode = 0700;
  const auto leaving = shop.state->installed();
  const TreeChange change = plan_tree(*shop.fs, *shop.state, leaving, {{two.package, FileList::of(files)}});
  EXPECT_EQ(moves_of(change), "attributes var/p\n");
  state::PackageChange record;
  record.name = "p";
  record.before = leaving[0];
  record.before_row = leaving[0].row;
  record.after = state::StatePackage{0, two.package, Reason::Wanted, "test", {}, 0};
  Planned planned;
  planned.tree = change;
  planned.sources = {{two.package, two.reader.get()}};
  planned.changes = {record};
  const auto before = shop.files();
  const auto id = shop.run(*shop.fs, planned, "test");
  EXPECT_EQ(shop.fs->stat("var/p")->mode, 0700U);
  shop.undo(*shop.fs, id);
  EXPECT_EQ(shop.files(), before);
}

}  // namespace hambrel::txn
