// What the README, docs/scripts.md and docs/publishing.md tell people to type does what they say.
#include <gmock/gmock.h>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

/// The code blocks of a document, one after the other.
std::string code_of(const std::string& document) {
  std::string code;
  for (std::size_t at = document.find("```sh\n"); at != std::string::npos; at = document.find("```sh\n", at)) {
    at += 6;
    const std::size_t end = document.find("```", at);
    code += document.substr(at, end - at);
    at = end;
  }
  return code;
}

void replace_all(std::string& text, const std::string& from, const std::string& to) {
  for (auto at = text.find(from); at != std::string::npos; at = text.find(from, at + to.size()))
    text.replace(at, from.size(), to);
}

const fs::path kPrograms = fs::path(HAMBREL_PROGRAM).parent_path();

TEST(Texts, TheFirstFiveMinutesOfTheReadmeWork) {
  const TempDir directory;
  std::string script = code_of(read_file(HAMBREL_SOURCE "/README.md"));
  replace_all(script, "/tmp/skerry", (directory / "skerry").string());
  replace_all(script, "$PWD/build/release/src", kPrograms.string());
  replace_all(script, "8642", std::to_string(20000 + getpid() % 20000));
  replace_all(script, " & #", " & sleep 1 #");
  fs::create_directories(directory / "skerry");
  const Ran ran = run({"env", "-C", HAMBREL_SOURCE, "bash", "-emc", script});
  EXPECT_EQ(ran.code, 0) << ran.out << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("tidewatch  2.1-1  logger for tide gauges"));
  EXPECT_THAT(ran.out, HasSubstr("Done as transaction 1."));
  EXPECT_THAT(ran.out, HasSubstr("undone by 2"));
  EXPECT_FALSE(fs::exists(directory / "skerry"));
}

TEST(Texts, TheExamplesForScriptsWork) {
  const TempDir directory;
  const std::string world = (directory / "world").string(), root = (directory / "root").string();
  fs::create_directories(root);
  ASSERT_EQ(run({"env", std::string("HAMBREL=") + HAMBREL_PROGRAM, HAMBREL_SOURCE "/demo/build-world.sh", world}).code,
            0);
  for (const char* const name : {"skerry-base", "skerry-harbour"})
    ASSERT_EQ(run({HAMBREL_PROGRAM, "--root", root, "repo", "add", name, "file://" + world + "/" + name,
                   "--fingerprint", read_file(directory / "keys" / (std::string(name) + ".fingerprint"))})
                  .code,
              0);
  const Ran ran =
      run({"env", "-C", directory.path().string(), "ROOT=" + root, "PATH=" + kPrograms.string() + ":/usr/bin:/bin",
           "bash", "-euo", "pipefail", "-c", code_of(read_file(HAMBREL_SOURCE "/docs/scripts.md"))});
  EXPECT_EQ(ran.code, 0) << ran.out << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("install libbuoy 2.4.0-1\n"));
  EXPECT_THAT(ran.out, HasSubstr("nothing to do\n"));
  EXPECT_THAT(ran.out, HasSubstr("install tidewatch\n"));
  EXPECT_THAT(ran.out, HasSubstr("switching\n"));
}

TEST(Texts, ASignedRepositoryIsMadeAsTheyTell) {
  const TempDir directory;
  const fs::path own = directory / "own", root = directory / "root";
  fs::create_directories(root);
  for (const std::string name : {"lampdesk", "tidewatch"}) {
    write_file(own / name / "root/usr/bin" / name, "l", 0755);
    write_file(own / name / "package.toml",
               "name = \"" + name + "\"\nversion = \"1.0-1\"\narch = \"independent\"\nsummary = \"it\"\n");
  }
  const Ran ran = run({"env", "-C", own.string(), "ROOT=" + root.string(), "URL=file://" + own.string(),
                       "PATH=" + kPrograms.string() + ":/usr/bin:/bin", "bash", "-euo", "pipefail", "-c",
                       code_of(read_file(HAMBREL_SOURCE "/docs/publishing.md"))});
  EXPECT_EQ(ran.code, 0) << ran.out << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("Fingerprint, for those who are to trust it:"));
  EXPECT_THAT(ran.out, HasSubstr("its timestamp is renewed"));
  EXPECT_THAT(ran.out,
              HasSubstr("Waits for signatures: ./trust/unfinished/2.targets.json has 0 of 1 by keys of targets"));
  EXPECT_THAT(ran.out, HasSubstr("verified by root 1"));
  EXPECT_THAT(ran.out, HasSubstr("signed by root 3"));
  EXPECT_EQ(read_file(root / "usr/bin/lampdesk"), "l");
}

/// After a change that is meant to be seen: tests/scenario/screens.py PROGRAM tests/golden write, and look at each.
TEST(Texts, TheMainScreensLookAsTheyDid) {
  const Ran ran =
      run({"python3", HAMBREL_SOURCE "/tests/scenario/screens.py", HAMBREL_PROGRAM, HAMBREL_SOURCE "/tests/golden"});
  EXPECT_EQ(ran.code, 0) << ran.out << ran.err;
}

}  // namespace hambrel::test
