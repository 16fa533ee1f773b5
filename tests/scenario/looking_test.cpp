// Holds, strays, architectures, channels, repositories that are off, and the compiled catalogue, as users meet them.
#include <fmt/format.h>
#include <gmock/gmock.h>

#include "base/checksum.h"
#include "scenario/station.h"

namespace hambrel::test {

using ::testing::HasSubstr;
using ::testing::Not;

class Looking : public ::testing::Test {
 protected:
  Looking() {
    pack("gauge", "1-1", "");
    pack("gauge", "2-1", "[relations]\nrequires = [\"probe >= 2\"]\n");
    pack("probe", "1-1", "");
    pack("probe", "2-1", "");
    pack("watch", "1-1", "[relations]\nrequires = [\"probe < 2\"]\n");
    station.open();
  }
  void pack(const std::string& name, const std::string& version, const std::string& toml) {
    station.pack(name, version, toml, {{"usr/share/" + name + "-" + version, version}});
  }
  std::string catalogue() const { return (station.root() / "var/cache/hambrel/index/_catalogue.image").string(); }
  Station station;
};

TEST_F(Looking, AHoldIsRecordedShapesPlansAndIsReleasedAndUndone) {
  station.hambrel({"install", "gauge=1", "probe=1", "--yes"});
  EXPECT_EQ(station.hambrel({"hold", "probe", "--reason", "the cable is old", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"list", "held"}).out, HasSubstr("probe"));
  const Ran upgrade = station.hambrel({"upgrade", "-n"});
  EXPECT_THAT(upgrade.out, HasSubstr("probe is held at 1-1 (2-1 is available): the cable is old"));
  EXPECT_THAT(
      upgrade.out,
      HasSubstr("gauge stays at 1-1 (2-1 is available): probe 1-1 (held) stays, but gauge 2-1 requires probe >= 2"));
  const Ran refused = station.hambrel({"install", "gauge>=2", "-y"});
  EXPECT_EQ(refused.code, 3);
  EXPECT_THAT(refused.err, HasSubstr("probe 1-1 is held: the cable is old"));
  EXPECT_THAT(refused.err, HasSubstr("change --release probe --install 'gauge>=2'\n     releases the hold of probe"));
  EXPECT_EQ(station.hambrel({"release", "probe", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"undo", "3", "-y"}).out, HasSubstr("hold  probe")) << "the release is taken back";
  EXPECT_THAT(station.hambrel({"list", "held"}).out, HasSubstr("probe"));
  EXPECT_EQ(station.hambrel({"change", "--release", "probe", "--upgrade", "gauge", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "gauge 2-1, probe 2-1");
  EXPECT_THAT(station.hambrel({"list", "held"}).out, Not(HasSubstr("probe")));
  EXPECT_EQ(station.hambrel({"hold", "probe", "--until", "1999-01-01", "-y"}).code, 2);
}

TEST_F(Looking, WantAndUnwantDecideWhatIsUnneeded) {
  station.hambrel({"install", "watch", "--yes"});
  EXPECT_EQ(station.hambrel({"unwant", "watch", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"list", "unneeded"}).out, HasSubstr("watch"));
  EXPECT_EQ(station.hambrel({"want", "watch", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"list", "unneeded"}).out, Not(HasSubstr("watch")));
  EXPECT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0);
  EXPECT_THAT(station.hambrel({"list", "unneeded"}).out, HasSubstr("watch"));
}

TEST_F(Looking, AStrayThatHoldsOthersBackIsNamedWithThePriceOfLettingItGo) {
  station.hambrel({"install", "gauge=1", "watch", "--yes"});
  fs::remove_all(station.repository() / "packages/watch");
  station.publish();
  station.hambrel({"refresh"});
  const Ran upgrade = station.hambrel({"upgrade", "-n"});
  EXPECT_THAT(upgrade.out, HasSubstr("watch 1-1 (wanted, and no repository offers it any more) requires probe < 2"));
  EXPECT_THAT(upgrade.out, HasSubstr("upgrade --drop-strays` would hold back none instead of 2, and remove 1 wanted "
                                     "package that no repository offers any more: watch"));
  EXPECT_EQ(station.hambrel({"upgrade", "--drop-strays", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "gauge 2-1, probe 2-1");
}

TEST_F(Looking, ADamagedOrMissingCatalogueChangesNoAnswer) {
  const std::string whole = station.hambrel({"list", "available"}).out;
  EXPECT_THAT(whole, HasSubstr("gauge"));
  const std::string image = read_file(catalogue());
  std::string damaged = image;
  for (std::size_t i = 4096; i < damaged.size() - 600; ++i) damaged[i] = static_cast<char>(damaged[i] ^ 1);
  write_file(catalogue(), damaged);
  const Ran ran = station.hambrel({"list", "available"});
  EXPECT_EQ(ran.out, whole);
  EXPECT_THAT(ran.err, HasSubstr("a compiled index is damaged and was not used"));
  EXPECT_EQ(station.hambrel({"install", "gauge", "-y"}).code, 0);
  fs::remove(catalogue());
  EXPECT_THAT(station.hambrel({"list", "available"}).out, HasSubstr("watch"));
  station.hambrel({"refresh"});
  EXPECT_TRUE(fs::exists(catalogue())) << "an unchanged index is compiled again where the catalogue is gone";
  EXPECT_EQ(station.hambrel({"list", "available"}).err, "");
}

TEST_F(Looking, ARepositoryThatIsNotEnabledIsToldOfAndOfferedAsAWayOut) {
  const fs::path cove = station.path("cove");
  station.pack("lens", "1-1", "", {{"usr/share/lens", "x"}}, (cove / "packages/lens/1-1.independent.hambrel").string());
  station.pack("view", "1-1", "[relations]\nrequires = [\"lens\"]\n", {{"usr/share/view", "x"}});
  station.publish();
  run({HAMBREL_PROGRAM, "publish", cove.string()});
  station.hambrel({"repo", "add", "cove", "file://" + cove.string(), "--unsigned"});
  station.hambrel({"refresh"});
  station.hambrel({"repo", "disable", "cove"});
  const Ran named = station.hambrel({"install", "lens", "-y"});
  EXPECT_EQ(named.code, 3);
  EXPECT_THAT(named.err, HasSubstr("lens exists only in a repository that is not enabled: 1-1 in cove"));
  EXPECT_THAT(named.err, HasSubstr("repo enable cove"));
  const Ran needed = station.hambrel({"install", "view", "-y"});
  EXPECT_EQ(needed.code, 3);
  EXPECT_THAT(needed.err, HasSubstr("enables repository cove; installs 2"));
  station.on_terminal("1|no", {"install", "view"});
  EXPECT_THAT(station.hambrel({"repo", "list"}).out, HasSubstr("disabled")) << "nobody agreed";
  EXPECT_EQ(station.installed(), "");
  const std::string command =
      std::string(HAMBREL_PROGRAM) + " --color never --root " + station.root().string() + " install view";
  run({"script", "-qec", "printf '1\\nyes\\n' | script -qec '" + command + "' /dev/null", "/dev/null"});
  EXPECT_EQ(station.installed(), "lens 1-1, view 1-1");
}

TEST_F(Looking, TheSameVersionOfTwoRepositoriesIsToldApartByItsFile) {
  const fs::path cove = station.path("cove");
  station.pack("lens", "1-1", "[relations]\nrequires = [\"oil\"]\n", {{"usr/share/lens", "of cove"}},
               (cove / "packages/lens/1-1.independent.hambrel").string());
  station.pack("oil", "1-1", "", {{"usr/share/oil", "x"}}, (cove / "packages/oil/1-1.independent.hambrel").string());
  fs::remove_all(station.path("src-lens-1-1"));
  station.pack("lens", "1-1", "", {{"usr/share/lens", "of base"}});
  station.publish();
  run({HAMBREL_PROGRAM, "publish", cove.string()});
  station.hambrel({"repo", "add", "cove", "file://" + cove.string(), "--rank", "10", "--unsigned"});
  station.hambrel({"refresh"});
  const Ran plan = station.hambrel({"install", "lens", "-n"});
  EXPECT_THAT(plan.out, HasSubstr("lens requires oil"));
  EXPECT_THAT(plan.out, HasSubstr("cove/stable")) << "rank decides, with the relations of that file";
  EXPECT_EQ(station.hambrel({"install", "lens", "-y"}).code, 0);
  EXPECT_EQ(read_file(station.root() / "usr/share/lens"), "of cove");
  write_file(station.root() / "etc/hambrel/repos/cove.toml",
             "url = \"file://" + cove.string() + "\"\nchannels = [\"stable\"]\nrank = 90\ntrust = \"none\"\n");
  EXPECT_THAT(station.hambrel({"upgrade", "-n"}).out, HasSubstr("Nothing to do"));
  EXPECT_THAT(station.hambrel({"install", "lens", "-n"}).out, HasSubstr("already as requested"));
  const Ran described = station.hambrel({"describe", "lens"});
  EXPECT_THAT(described.out, testing::ContainsRegex("cove/stable  [0-9]+ B  installed"));
  EXPECT_THAT(described.out, testing::ContainsRegex("base/stable  [0-9]+ B\n")) << "another file";
}

TEST_F(Looking, ASecondArchitectureStandsBesideTheFirst) {
  write_file(station.root() / "etc/hambrel/hambrel.toml", "arch = \"x86_64\"\nmore_archs = [\"armv7l\"]\n");
  for (const std::string arch : {"x86_64", "armv7l", "s390x"}) {
    const fs::path source = station.path("src-rig-" + arch);
    write_file(source / "package.toml",
               "name = \"rig\"\nversion = \"1-1\"\nsummary = \"rig\"\narch = \"" + arch + "\"\n");
    write_file(source / "root" / ("usr/lib/" + arch + "/rig"), arch);
    fs::create_directories(station.repository() / "packages/rig");
    run({HAMBREL_PROGRAM, "pack", "-q", source.string(), "-o",
         (station.repository() / "packages/rig" / ("1-1." + arch + ".hambrel")).string()});
  }
  station.publish();
  station.hambrel({"refresh"});
  EXPECT_EQ(station.hambrel({"install", "rig", "-y"}).code, 0);
  EXPECT_TRUE(fs::exists(station.root() / "usr/lib/x86_64/rig"));
  EXPECT_FALSE(fs::exists(station.root() / "usr/lib/armv7l/rig"));
  EXPECT_EQ(station.hambrel({"install", "rig", "--arch", "armv7l", "-y"}).code, 0);
  EXPECT_TRUE(fs::exists(station.root() / "usr/lib/armv7l/rig"));
  EXPECT_EQ(station.hambrel({"install", "rig", "--arch", "s390x", "-y"}).code, 2);
  EXPECT_EQ(station.hambrel({"remove", "rig", "--arch", "x86_64", "-y"}).code, 0);
  EXPECT_FALSE(fs::exists(station.root() / "usr/lib/x86_64/rig"));
  EXPECT_TRUE(fs::exists(station.root() / "usr/lib/armv7l/rig"));
  EXPECT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0) << "one of each architecture is there again";
  EXPECT_TRUE(fs::exists(station.root() / "usr/lib/x86_64/rig"));
}

TEST_F(Looking, AFollowedChannelOfOnePackageCountsForItAlone) {
  write_file(station.repository() / "repository.toml",
             "[[channel]]\nname = \"beta\"\npackages = [\"gauge >= 2\", \"probe >= 2\"]\n");
  station.publish();
  station.hambrel({"refresh"});
  station.hambrel({"install", "gauge", "probe", "-y"});
  EXPECT_EQ(station.installed(), "gauge 1-1, probe 1-1");
  write_file(station.root() / "etc/hambrel/hambrel.toml", "[follow]\nprobe = \"beta\"\n");
  EXPECT_EQ(station.hambrel({"upgrade", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "gauge 1-1, probe 2-1");
}

TEST_F(Looking, VersionsThatMayStandSideBySideDo) {
  for (const std::string version : {"1-1", "2-1", "3-1"}) {
    station.pack("keelctl", version, "parallel = 2\n", {{"boot/keel-" + version, version}});
    station.publish();
    station.hambrel({"refresh"});
    EXPECT_EQ(station
                  .hambrel(version == "1-1" ? std::vector<std::string>{"install", "keelctl", "-y"}
                                            : std::vector<std::string>{"upgrade", "-y"})
                  .code,
              0);
  }
  EXPECT_EQ(station.installed(), "keelctl 3-1, keelctl 2-1");
  EXPECT_FALSE(fs::exists(station.root() / "boot/keel-1-1"));
  EXPECT_EQ(station.hambrel({"undo", "3", "-y"}).code, 0);
  EXPECT_EQ(station.installed(), "keelctl 2-1, keelctl 1-1");
}

TEST_F(Looking, TheKeptListingSaysWhatLookingWouldSayAfterWhateverHasChanged) {
  const fs::path listing = station.root() / "var/cache/hambrel/index/_listing.image";
  const auto same = [&] {
    const std::string kept = station.hambrel({"list"}).out;
    EXPECT_EQ(station.hambrel({"list", "installed"}).out, kept);
    fs::remove(listing);
    EXPECT_EQ(station.hambrel({"list"}).out, kept);
    station.hambrel({"refresh"});
    EXPECT_TRUE(fs::exists(listing));
    return kept;
  };
  station.hambrel({"install", "gauge=1", "watch", "-y"});
  EXPECT_THAT(same(), HasSubstr("gauge  1-1  -> 2-1  wanted"));
  // that it is what is printed: with another text that has the right sum
  std::string rest = read_file(listing).substr(17);
  rest.replace(rest.find("gauge  1-1"), 5, "GAUGE");
  write_file(listing,
             fmt::format("{:016x}\n", checksum(reinterpret_cast<const std::byte*>(rest.data()), rest.size())) + rest);
  EXPECT_THAT(station.hambrel({"list"}).out, HasSubstr("GAUGE"));
  EXPECT_THAT(station.hambrel({"list", "--sort", "name", "wanted"}).out, Not(HasSubstr("GAUGE")));
  EXPECT_EQ(station.hambrel({"list", "--exit-code"}).code, 10);
  // settings that nothing was told of
  const fs::path settings = station.root() / "etc/hambrel/repos/base.toml";
  const std::string enabled = read_file(settings);
  std::string disabled = enabled;
  disabled.replace(disabled.find("enabled = true"), 14, "enabled = false");
  write_file(settings, disabled);
  EXPECT_THAT(station.hambrel({"list"}).out, HasSubstr("gauge  1-1  wanted"));
  write_file(settings, enabled);
  // each kind of change
  station.hambrel({"hold", "watch", "-y"});
  EXPECT_THAT(same(), HasSubstr("watch  1-1          wanted     held  watch"));
  station.hambrel({"undo", "2", "-y"});
  EXPECT_THAT(same(), Not(HasSubstr("held")));
  station.pack("gauge", "3-1", "", {{"usr/share/gauge", "3"}});
  station.publish();
  station.hambrel({"refresh"});
  EXPECT_THAT(same(), HasSubstr("-> 3-1"));
}

TEST(Lists, AreByCategoryLicenseGroupAndWhatIsBroken) {
  Station station;
  station.pack("lamp", "1-1", "category = \"light\"\nlicense = \"MIT OR Proprietary\"\n", {{"usr/bin/lamp", "l"}});
  station.pack("horn", "1-1", "category = \"sound\"\nlicense = \"Proprietary\"\n", {{"usr/bin/horn", "h"}});
  station.pack("desk", "1-1", "license = \"GPL-3.0-or-later\"\n[relations]\nrequires = [\"lamp\"]\n",
               {{"usr/bin/desk", "d"}});
  write_file(station.repository() / "groups.toml",
             "[[group]]\nname = \"room\"\nsummary = \"room\"\nmembers = [\"lamp\"]\noptional = [\"horn\"]\n");
  station.open();
  const auto names = [&](std::vector<std::string> words) {
    words.insert(words.begin(), "list");
    std::string all;
    std::istringstream lines(station
                                 .hambrel([&] {
                                   words.push_back("--json");
                                   return words;
                                 }())
                                 .out);
    for (std::string line; std::getline(lines, line);)
      all += nlohmann::json::parse(line)["name"].get<std::string>() + " ";
    return all;
  };
  EXPECT_EQ(names({"category:li*"}), "lamp ");
  EXPECT_EQ(names({"license:free"}), "desk lamp ");
  EXPECT_EQ(names({"license:gpl-*"}), "desk ");
  EXPECT_EQ(names({"available", "not:license:free", "not:category:group"}), "horn ");
  EXPECT_EQ(names({"group:room"}), "horn lamp ");
  ASSERT_EQ(station.hambrel({"install", "desk", "-y"}).code, 0);
  EXPECT_EQ(names({"broken"}), "");
  EXPECT_EQ(station.hambrel({"list", "generated"}).out, "No package programs have generated files.\n");
}

TEST(Owner, OfWhatIsNotInstalledTheRepositoriesAreAskedAndTheAnswerIsKept) {
  Station station;
  station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "1"}});
  station.pack("lamp", "2-1", "", {{"usr/bin/lamp", "2"}});
  station.open();
  const Ran ran = station.hambrel({"owner", "/usr/bin/lamp"});
  EXPECT_EQ(ran.code, 1);
  EXPECT_THAT(ran.out,
              testing::HasSubstr("is not installed; available in lamp 2-1 (base/stable), lamp 1-1 (base/stable)"));
  EXPECT_THAT(station.hambrel({"owner", "--installed", "/usr/bin/lamp"}).out, testing::HasSubstr("not owned by any"));
  fs::remove_all(station.repository() / "index");  // what is in the cache answers
  EXPECT_EQ(station.json({"owner", "/usr/bin/lamp"})["available"].size(), 2);
  fs::remove_all(station.root() / "var/cache/hambrel/index/base/paths.zst");
  const Ran away = station.hambrel({"owner", "/usr/bin/lamp"});
  EXPECT_EQ(away.code, 1);
  EXPECT_THAT(away.err, testing::HasSubstr("could not be searched"));
}

}  // namespace hambrel::test
