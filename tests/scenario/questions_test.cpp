// Questions of packages: answered before the first change, by whoever is there, and given to their hooks.
#include "scenario/acting.h"

namespace hambrel::test {

using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

class Asking : public Acting {
 protected:
  void SetUp() override {
    Acting::SetUp();
    if (IsSkipped()) return;
    for (const char* const version : {"1-1", "2-1"})
      station.pack(
          "store", version,
          "[[questions]]\nkey = \"listen\"\ntext = \"Which address should the store listen on?\"\n"
          "kind = \"choice\"\nchoices = [\"127.0.0.1\", \"0.0.0.0\"]\ndefault = \"127.0.0.1\"\n"
          "[[questions]]\nkey = \"station-name\"\ntext = \"What is this station called?\"\n" +
              hook("install\", \"upgrade",
                   "mkdir -p /var/store\necho $HAMBREL_ANSWER_LISTEN $HAMBREL_ANSWER_STATION_NAME > /var/store/set",
                   "\"var/store/**\""),
          {{"usr/store", version}});
    station.pack("vault", "1-1",
                 "[[questions]]\nkey = \"password\"\ntext = \"The password of the vault?\"\nkind = \"secret\"\n" +
                     hook("install",
                          "mkdir -p /var/vault\necho $HAMBREL_ANSWER_PASSWORD > /var/vault/key\necho got "
                          "$HAMBREL_ANSWER_PASSWORD",
                          "\"var/vault/**\""),
                 {{"usr/vault", "1"}});
    station.open();
  }
  std::string answers(const std::string& text) const {
    write_file(station.path("answers.toml"), text);
    return station.path("answers.toml").string();
  }
};

TEST_F(Asking, AnAnswerComesFromTheFileTheSettingsOrThePackage) {
  done({"install", "store=1", "--answers", answers("[store]\nstation-name = \"north pier\"\n[other]\nx = 1\n")});
  EXPECT_EQ(content("var/store/set"), "127.0.0.1 north pier\n");
  done({"undo", "1"});
  write_file(station.root() / "etc/hambrel/hambrel.toml",
             "[answers.store]\nlisten = \"0.0.0.0\"\nstation-name = \"cove\"\n");
  done({"install", "store=1"});
  EXPECT_EQ(content("var/store/set"), "0.0.0.0 cove\n");
  const auto plan = station.json({"ledger", "show", "3"})["plan"];
  EXPECT_EQ(plan["questions"][0]["answer"], "0.0.0.0");
  EXPECT_EQ(plan["questions"][0]["from"], "settings");
}

TEST_F(Asking, WhatNobodyAnswersIsRefusedAtOnceAndSaysHow) {
  const auto before = station.files();
  const Ran ran = station.hambrel({"install", "store", "-y"});
  EXPECT_EQ(ran.code, 3);
  EXPECT_EQ(station.files(), before);
  EXPECT_THAT(ran.err, HasSubstr("store asks, and nobody answers: What is this station called?"));
  EXPECT_THAT(ran.err, HasSubstr("--answers FILE, which has the lines: [store] and station-name ="));
  // what is only looked at asks nobody
  const auto plan = station.json({"install", "store", "-n"})["plan"];
  EXPECT_EQ(plan["questions"][1]["from"], "open");
  const auto wrong = [&](const std::string& text) {
    return station.hambrel({"install", "store", "-y", "--answers", answers(text)}).err;
  };
  EXPECT_THAT(wrong("[store]\nlisten = \"::1\"\n"),
              AllOf(HasSubstr("answers.toml:2"), HasSubstr("the answer to listen of store must be one of 127.0.0.1")));
  EXPECT_THAT(wrong("[store]\nport = 1\n"), AllOf(HasSubstr("answers.toml:2"), HasSubstr("asks no question \"port\"")));
  EXPECT_THAT(wrong("[store]\nlisten = []\n"), HasSubstr("must be a text"));
  EXPECT_THAT(wrong("store = 1\n"), HasSubstr("must be a table"));
  EXPECT_THAT(station.hambrel({"install", "store", "-y", "--answers", "/nowhere"}).err, HasSubstr("does not exist"));
}

TEST_F(Asking, OnATerminalAllIsAskedBeforeTheConsentAndRememberedForLater) {
  const Ran ran = station.on_terminal("0|north pier|yes", {"install", "store=1"});
  EXPECT_THAT(ran.out, AllOf(HasSubstr("Questions:"), HasSubstr("1 of 2"), HasSubstr("Enter: 127.0.0.1")));
  EXPECT_EQ(content("var/store/set"), "0.0.0.0 north pier\n") << ran.out;
  done({"upgrade"});
  EXPECT_EQ(content("var/store/set"), "0.0.0.0 north pier\n") << "an upgrade does not ask again";
  done({"remove", "store"});
  const Ran again = station.on_terminal("||yes", {"install", "store=1"});
  EXPECT_THAT(again.out, HasSubstr("Enter: north pier"));
  EXPECT_EQ(content("var/store/set"), "0.0.0.0 north pier\n") << again.out;
}

TEST_F(Asking, ASecretStandsNowhere) {
  const std::string secret = "kelp-and-tar-77";
  done({"install", "vault", "--answers", answers("[vault]\npassword = \"" + secret + "\"\n")});
  EXPECT_EQ(content("var/vault/key"), secret + "\n");
  const std::string shown =
      station.hambrel({"ledger", "show", "1"}).out + station.hambrel({"ledger", "show", "1", "--json"}).out;
  EXPECT_THAT(shown, AllOf(HasSubstr("got ***"), Not(HasSubstr(secret))));
  std::string kept;
  for (const auto& file : fs::recursive_directory_iterator(station.root() / "var/lib/hambrel"))
    if (file.is_regular_file()) kept += read_file(file.path());
  EXPECT_THAT(kept, Not(HasSubstr(secret)));
  done({"remove", "vault", "--purge"});
  EXPECT_THAT(station.hambrel({"install", "vault", "-y"}).err, HasSubstr("vault asks, and nobody answers"));
}

TEST_F(Asking, WhatAProgramPrintsIsAllInALogWithoutSecrets) {
  const std::string secret = "kelp-and-tar-77";
  station.pack("loud", "1-1",
               "[[questions]]\nkey = \"password\"\ntext = \"?\"\nkind = \"secret\"\n" +
                   hook("install",
                        "i=0; while [ $i -lt 3000 ]; do echo line $i of a long story, $HAMBREL_ANSWER_PASSWORD; "
                        "i=$((i+1)); done"),
               {{"usr/loud", "1"}});
  station.publish();
  station.hambrel({"refresh"});
  done({"install", "loud", "--answers", answers("[loud]\npassword = \"" + secret + "\"\n")});
  const auto shown = station.json({"ledger", "show", "1"});
  EXPECT_THAT(shown["runs"][0]["output"].get<std::string>(),
              AllOf(Not(HasSubstr("line 0 of")), HasSubstr("line 2999 of"), Not(HasSubstr(secret))));
  const std::string log = content(shown["log"].get<std::string>().substr(1));
  EXPECT_THAT(log, AllOf(HasSubstr("the hook of loud"), HasSubstr("line 0 of a long story, ***"),
                         HasSubstr("line 2999 of"), Not(HasSubstr(secret))));
  EXPECT_EQ(std::count(log.begin(), log.end(), '\n'), 3001);
}

TEST_F(Asking, WhatIsLeftOutIsAnsweredWhenItIsMadeUpFor) {
  done({"install", "store=1", "--without-hooks"});
  EXPECT_EQ(station.hambrel({"repair", "-y"}).code, 3) << "its hook is due, and nobody answers";
  done({"repair", "--answers", answers("[store]\nstation-name = \"cove\"\n")});
  EXPECT_EQ(content("var/store/set"), "127.0.0.1 cove\n");
}

TEST_F(Asking, WhatIsPreparedWasAsked) {
  done({"install", "store=1", "--prepare", "--answers", answers("[store]\nstation-name = \"cove\"\n")});
  done({"activate"});
  EXPECT_EQ(content("var/store/set"), "127.0.0.1 cove\n");
  done({"upgrade"});
  EXPECT_EQ(content("var/store/set"), "127.0.0.1 cove\n") << "kept with what was prepared";
}

TEST(Question, IsDeclaredStrictly) {
  const TempDir directory;
  const auto packed = [&](const std::string& toml) {
    write_file(
        directory / "src/package.toml",
        "name = \"x\"\nversion = \"1\"\narch = \"independent\"\nsummary = \"x\"\n[[questions]]\ntext = \"?\"\n" + toml);
    fs::create_directories(directory / "src/root");
    return run({HAMBREL_PROGRAM, "pack", (directory / "src").string(), "-o", (directory / "x.hambrel").string()}).err;
  };
  EXPECT_EQ(packed("key = \"a\"\nkind = \"yes-no\"\ndefault = true\n"), "");
  EXPECT_EQ(packed("key = \"a\"\nkind = \"number\"\ndefault = -7\n"), "");
  EXPECT_THAT(packed("key = \"A\"\n"), HasSubstr("package.toml:7: questions.key must be"));
  EXPECT_THAT(packed("key = \"a\"\nkind = \"choice\"\n"), HasSubstr("add choices = ..."));
  EXPECT_THAT(packed("key = \"a\"\nkind = \"number\"\ndefault = \"many\"\n"), HasSubstr("must be a whole number"));
  EXPECT_THAT(packed("key = \"a\"\nkind = \"secret\"\ndefault = \"x\"\n"),
              HasSubstr("a secret that everybody can read"));
  EXPECT_THAT(packed("key = \"a\"\n[[questions]]\nkey = \"a\"\ntext = \"?\"\n"),
              HasSubstr("another one for each question"));
}

}  // namespace hambrel::test
