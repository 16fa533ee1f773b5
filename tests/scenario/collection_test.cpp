// Recipes that a repository offers: signed, found, read, and built.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <regex>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;
using testing::Not;

class Collection : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lamp", "1-1", "", {{"usr/lamp", "l\n"}});
    recipe("1.0", "echo first");
    fs::create_directories(keys);
    for (const char* const role : {"root", "targets", "snapshot", "timestamp"})
      ASSERT_EQ(run({HAMBREL_PROGRAM, "key", "new", (keys / (std::string(role) + ".key")).string(), "-q"}).code, 0);
    const Ran first =
        run({HAMBREL_PROGRAM, "publish", station.repository().string(), "--keys", keys.string(), "--init"});
    ASSERT_EQ(first.code, 0) << first.err;
    const std::string fingerprint = first.out.substr(first.out.rfind("trust it:") + 9);
    ASSERT_EQ(
        station
            .hambrel({"repo", "add", "file://" + station.repository().string(), "base", "--fingerprint", fingerprint})
            .code,
        0);
    fs::create_directories(out);
  }
  void recipe(const std::string& version, const std::string& build) const {
    write_file(folder() / "recipe.toml", "[recipe]\nname = \"oar\"\nversion = \"" + version +
                                             "\"\nsummary = \"a long oar\"\nlicense = \"MIT\"\n"
                                             "[[sources]]\nfile = \"blade\"\n[steps]\nbuild = \"" +
                                             build + "\"\ninstall = \"mkdir {stage}/usr; cp blade {stage}/usr\"\n");
    write_file(folder() / "blade", "ash\n");
  }
  fs::path folder() const { return station.repository() / "recipes/oar"; }
  Ran publish() const {
    return run({HAMBREL_PROGRAM, "publish", station.repository().string(), "--keys", keys.string()});
  }
  Ran build(std::vector<std::string> more = {}) const {
    more.insert(more.begin(), {"build", "oar", "--host-tools", "-o", out.string()});
    return station.hambrel(more);
  }
  Station station;
  const fs::path keys = station.path("keys"), out = station.path("out");
};

TEST_F(Collection, ARecipeIsFoundAndReadBeforeItIsBuiltAndItsChangesBeforeTheNext) {
  EXPECT_THAT(station.hambrel({"list", "buildable"}).out, HasSubstr("a long oar"));
  EXPECT_THAT(station.hambrel({"search", "long"}).out, HasSubstr("can be built from source"));
  EXPECT_THAT(station.hambrel({"describe", "oar"}).out, HasSubstr("install oar --from-source"));
  EXPECT_EQ(station.json({"describe", "oar"}).at("packages"), nlohmann::json({"oar"}));
  const Ran unread = build();
  EXPECT_EQ(unread.code, 4);
  EXPECT_THAT(unread.err, HasSubstr("was not read yet"));
  EXPECT_TRUE(fs::is_empty(out));
  const Ran shown = station.on_terminal("no|", {"build", "oar", "--host-tools", "-o", out.string(), "--no-pager"});
  EXPECT_THAT(shown.out, HasSubstr("echo first"));
  EXPECT_THAT(shown.out, HasSubstr("ash"));
  EXPECT_EQ(build().code, 4) << "it was read, but not agreed to";
  EXPECT_EQ(build({"--yes"}).code, 0);
  EXPECT_TRUE(fs::exists(out / "oar-1.0-1.x86_64.hambrel"));
  EXPECT_EQ(build().code, 0) << "nothing has changed since";
  recipe("1.1", "echo second");
  fs::copy(folder(), station.repository() / "recipes/rudder");
  write_file(station.repository() / "recipes/rudder/recipe.toml",
             std::regex_replace(read_file(folder() / "recipe.toml"), std::regex("oar"), "rudder"));
  ASSERT_EQ(publish().code, 0);
  const Ran refreshed = station.hambrel({"refresh"});
  EXPECT_THAT(refreshed.out, HasSubstr("1 new recipe (rudder), 1 newer recipe (oar 1.1-1)"));
  EXPECT_THAT(build().err, HasSubstr("has changed since it was read"));
  const Ran changed = build({"-n"});
  EXPECT_THAT(changed.out, HasSubstr("- build = \"echo first\""));
  EXPECT_THAT(changed.out, HasSubstr("+ build = \"echo second\""));
  EXPECT_THAT(changed.out, Not(HasSubstr("ash")));
  EXPECT_EQ(build({"-y"}).code, 0);
  EXPECT_TRUE(fs::exists(out / "oar-1.1-1.x86_64.hambrel"));
}

TEST_F(Collection, AnArchiveGoesAMonthAfterTheLastListThatNamesIt) {
  const fs::path archives = station.repository() / "recipes/archives";
  const auto age = [](const fs::path& path) {
    fs::last_write_time(path, fs::file_time_type::clock::now() - std::chrono::hours(60 * 24));
  };
  const fs::path first = *fs::directory_iterator(archives);
  age(first);
  for (const char* const version : {"1.1", "1.2", "1.3"}) {
    recipe(version, "echo later");
    ASSERT_EQ(publish().code, 0);
    EXPECT_TRUE(fs::exists(first)) << "a list that names it was served until now, before " << version;
  }
  for (const auto& one : fs::directory_iterator(archives)) age(one.path());
  recipe("1.4", "echo later");
  ASSERT_EQ(publish().code, 0);
  EXPECT_FALSE(fs::exists(first));
  EXPECT_EQ(std::distance(fs::directory_iterator(archives), {}), 4) << "three lists name them, and the new one";
  for (const auto& one : fs::directory_iterator(archives)) age(one.path());
  write_file(station.repository() / "index/recipes-2.json", "{damaged");
  recipe("1.5", "echo later");
  const Ran damaged = publish();
  EXPECT_EQ(damaged.code, 0) << damaged.err;
  EXPECT_EQ(std::distance(fs::directory_iterator(archives), {}), 5) << "nobody knows which are named";
}

TEST_F(Collection, WhoTrustsAKeyMayLeaveTheReadingToItsHolderAndNobodyElse) {
  const fs::path file = station.root() / "etc/hambrel/repos/base.toml";
  write_file(file, read_file(file) + "review = \"never\"\n");
  EXPECT_EQ(build().code, 0);
  // the same of what nobody vouches for
  const fs::path other = station.path("other");
  fs::copy(station.repository(), other, fs::copy_options::recursive);
  fs::remove_all(other / "trust");
  fs::remove_all(other / "index");
  ASSERT_EQ(run({HAMBREL_PROGRAM, "publish", other.string()}).code, 0);
  ASSERT_EQ(station.hambrel({"repo", "drop", "base", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"repo", "add", "file://" + other.string(), "base", "--unsigned"}).code, 0);
  write_file(file, read_file(file) + "review = \"never\"\n");
  fs::remove_all(station.root() / "var/cache/hambrel/builds/read");
  EXPECT_EQ(build().code, 4);
}

TEST_F(Collection, WhatIsNotWhatTheListNamesIsNotBuilt) {
  for (const auto& one : fs::directory_iterator(station.repository() / "recipes/archives")) {
    std::string bytes = read_file(one.path());
    bytes[bytes.size() / 2] ^= 1;
    write_file(one.path(), bytes);
  }
  const Ran damaged = build({"--yes"});
  EXPECT_EQ(damaged.code, 5);
  EXPECT_THAT(damaged.err, HasSubstr("is not what the repository's list names"));
  for (const auto& one : fs::directory_iterator(station.repository() / "index"))
    if (one.path().string().find("recipes") != std::string::npos) write_file(one.path(), "[]\n");
  fs::remove_all(station.root() / "var/cache/hambrel/index");
  EXPECT_EQ(station.hambrel({"refresh"}).code, 5) << "the list is signed";
  EXPECT_EQ(build({"--yes"}).code, 1);
  recipe("1.0", "echo\"\nnonsense = 1\nx = \"");
  const Ran wrong = publish();
  EXPECT_EQ(wrong.code, 1);
  EXPECT_THAT(wrong.err, HasSubstr("recipes/oar/recipe.toml:"));
}

TEST_F(Collection, WhatIsAskedForIsBuiltWithWhatItNeedsAndInstalledAndWithOtherOptionsAnotherVersion) {
  const auto add = [&](const std::string& name, const std::string& more, const std::string& install) {
    write_file(station.repository() / "recipes" / name / "recipe.toml",
               "[recipe]\nname = \"" + name + "\"\nversion = \"1\"\nsummary = \"" + name + "\"\nlicense = \"MIT\"\n" +
                   more + "[[sources]]\nfile = \"f\"\n[steps]\ninstall = \"mkdir {stage}/usr; " + install + "\"\n");
    write_file(station.repository() / "recipes" / name / "f", "f\n");
  };
  ASSERT_EQ(run({"python3", HAMBREL_SOURCE "/demo/machine_packages.py", HAMBREL_PROGRAM, station.path("tools").string(),
                 "base-tools"})
                .err,
            "");
  ASSERT_EQ(station.hambrel({"repo", "add", "file://" + station.path("tools").string(), "--unsigned"}).code, 0);
  add("clay", "[needs]\ntools = [\"sh\"]\n", "cp f {stage}/usr/clay");
  add("mould", "[options.glaze]\ntext = \"shiny\"\n[needs]\ntools = [\"sh\"]\nlibraries = [\"clay >= 1\"]\n",
      "cp /usr/clay {stage}/usr/mould; echo {option.glaze} >> {stage}/usr/mould");
  add("egg", "[needs]\ntools = [\"sh\", \"hen\"]\n", "true");
  add("hen", "[needs]\ntools = [\"egg\"]\n", "true");
  ASSERT_EQ(publish().code, 0);
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  EXPECT_THAT(station.hambrel({"install", "egg", "--from-source", "-y"}).err, HasSubstr("need each other"));
  EXPECT_EQ(station.hambrel({"install", "nosuch", "--from-source", "-y"}).code, 1);
  EXPECT_EQ(station.hambrel({"install", "mould", "--from-source"}).code, 4);
  const Ran shown = station.hambrel({"install", "mould", "--from-source", "-n"});
  EXPECT_THAT(shown.out, HasSubstr("mould needs clay >= 1"));
  EXPECT_EQ(station.installed(), "");
  const Ran built = station.hambrel({"install", "mould", "--from-source", "-y"});
  ASSERT_EQ(built.code, 0) << built.err;
  EXPECT_EQ(station.installed(), "mould 1-1") << "clay is only needed to build it";
  EXPECT_THAT(station.hambrel({"describe", "mould"}).out, HasSubstr("mould 1-1 can be built from source, too:\n"));
  add("oakum", "[needs]\ntools = [\"sh\"]\n", "cp f {stage}/usr/oakum");
  ASSERT_EQ(publish().code, 0);
  EXPECT_EQ(station.hambrel({"install", "oakum", "--from-source", "-y"}).code, 1) << "no refresh has told of it";
  ASSERT_EQ(station.hambrel({"install", "oakum", "--from-source", "--refresh", "-y"}).code, 0);
  ASSERT_EQ(station.hambrel({"remove", "oakum", "-y"}).code, 0);
  EXPECT_EQ(read_file(station.root() / "usr/mould"), "f\n0\n");
  EXPECT_THAT(station.hambrel({"options", "mould", "shine=on"}).err, HasSubstr("glaze"));
  EXPECT_EQ(station.json({"options", "mould", "glaze=on"}).at("on"), true);
  const Ran again = station.hambrel({"install", "mould", "--from-source", "-y"});
  EXPECT_THAT(again.out, HasSubstr("is built already"));
  EXPECT_EQ(station.installed(), "mould 1-1+glaze");
  EXPECT_EQ(read_file(station.root() / "usr/mould"), "f\n1\n");
  ASSERT_EQ(station.hambrel({"undo", "last", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "mould 1-1");
  // an upgrade comes to what is chosen now, and to recipes that have changed, and says so
  EXPECT_EQ(station.hambrel({"options", "mould", "glaze=off"}).code, 0);
  EXPECT_THAT(station.hambrel({"upgrade", "-y"}).out, HasSubstr("Nothing to do"));
  EXPECT_EQ(station.hambrel({"options", "mould", "glaze=on"}).code, 0);
  const Ran chosen = station.hambrel({"upgrade", "-y"});
  EXPECT_THAT(chosen.out, HasSubstr("its options are now glaze on"));
  EXPECT_EQ(station.installed(), "mould 1-1+glaze");
  write_file(station.repository() / "recipes/mould/f", "g\n");
  ASSERT_EQ(publish().code, 0);
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, HasSubstr("Nothing to do"));
  EXPECT_THAT(station.hambrel({"upgrade", "-n", "--refresh"}).out, HasSubstr("its recipe has changed"));
  EXPECT_THAT(station.hambrel({"upgrade", "-y", "--no-builds"}).out, HasSubstr("Nothing to do"));
  ASSERT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "mould 1-1+glaze.b2");
  const fs::path made = station.root() / "var/cache/hambrel/builds/made";
  EXPECT_TRUE(fs::exists(made / "mould-1-1.x86_64.hambrel"));
  ASSERT_EQ(station.hambrel({"tidy", "builds", "-y"}).code, 0);
  EXPECT_FALSE(fs::exists(made / "mould-1-1.x86_64.hambrel"));
  EXPECT_TRUE(fs::exists(made / "mould-1-1+glaze.b2.x86_64.hambrel"));
  EXPECT_TRUE(fs::exists(made / "clay-1-1.x86_64.hambrel"));
  // what is asked for beside what needs it is installed as well
  ASSERT_EQ(station.hambrel({"install", "mould", "clay", "--from-source", "-y"}).code, 0);
  EXPECT_THAT(station.installed(), HasSubstr("clay 1-1"));
  // what is built here is trusted because nobody else may write there
  fs::permissions(station.root() / "var/cache/hambrel/builds", fs::perms(0777));
  EXPECT_EQ(station.hambrel({"install", "mould", "--from-source", "-y"}).code, 3);
}

TEST_F(Collection, AnUpgradeBuildsAgainWhatNeedsALibraryThatNothingOffersAnyMore) {
  station.pack("tide", "1-1", "[relations]\nprovides = [\"tide.pc = 1\"]\n", {{"usr/tide", "t\n"}});
  write_file(folder() / "recipe.toml",
             read_file(folder() / "recipe.toml") + "[[packages]]\nrelations.requires = [\"tide.pc\"]\n");
  ASSERT_EQ(run({"python3", HAMBREL_SOURCE "/demo/machine_packages.py", HAMBREL_PROGRAM, station.path("tools").string(),
                 "base-tools"})
                .err,
            "");
  ASSERT_EQ(station.hambrel({"repo", "add", "file://" + station.path("tools").string(), "--unsigned"}).code, 0);
  std::string toml = read_file(folder() / "recipe.toml");
  toml.insert(toml.find("[steps]"), "[needs]\ntools = [\"sh\"]\n");
  write_file(folder() / "recipe.toml", toml);
  ASSERT_EQ(publish().code, 0);
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  ASSERT_EQ(station.hambrel({"install", "oar", "--from-source", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, HasSubstr("Nothing to do"));
  fs::remove_all(station.repository() / "packages/tide");
  station.pack("tide", "2-1", "[relations]\nprovides = [\"tide2.pc = 2\"]\n", {{"usr/tide", "u\n"}});
  ASSERT_EQ(publish().code, 0);
  ASSERT_EQ(station.hambrel({"refresh"}).code, 0);
  const Ran again = station.hambrel({"upgrade", "-n"});
  EXPECT_THAT(again.out, HasSubstr("nothing offers tide.pc any more"));
  EXPECT_THAT(again.out, HasSubstr("1 recipe will be built"));
}

}  // namespace hambrel::test
