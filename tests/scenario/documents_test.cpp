// What programs read: every command, with --json, where it does what was asked, refuses, and fails.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

namespace {

class Documents : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "[config]\nfiles = [\"etc/*\"]\n", {{"usr/lib/lib", "1"}, {"etc/lib", "a\nb\nc\nd\n"}});
    station.pack("lib", "2-1", "[config]\nfiles = [\"etc/*\"]\n", {{"usr/lib/lib", "2"}, {"etc/lib", "a\nb\nc\nD\n"}});
    station.pack("desk", "1-1", "[relations]\nrequires = [\"lib\"]\nrecommends = [\"lamp\"]\n",
                 {{"usr/bin/desk", "d"}});
    station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "l"}});
    station.pack("wick", "1-1",
                 "[[candidates]]\npath = \"usr/bin/light\"\nfile = \"usr/bin/wick\"\n[[accounts]]\nname = \"wick\"\n"
                 "[[questions]]\nkey = \"height\"\ntext = \"?\"\nkind = \"number\"\ndefault = 7\n"
                 "[[services]]\nname = \"beacon\"\ncheck = [\"/usr/bin/wick\"]\n"
                 "[[hooks]]\nwhen = [\"install\"]\nrun = [\"/usr/bin/wick\"]\nwrites = [\"var/wick\"]\n",
                 {{"usr/bin/wick", "w"}});
    write_file(station.repository() / "groups.toml",
               "[[group]]\nname = \"lights\"\nsummary = \"lights\"\nmembers = [\"lamp\"]\n");
    station.pack("horn", "1-1", "[relations]\nconflicts = [\"lib\"]\n", {{"usr/bin/horn", "h"}});
    write_file(station.root() / "usr/bin/runsvdir", "");  // a service manager, that does not run here
    write_file(station.root() / "etc/service/README", "");
    write_file(station.path("source/package.toml"),
               "name = \"x\"\nversion = \"1-1\"\narch = \"independent\"\nsummary = \"x\"\n");
    write_file(station.path("source/root/x"), "x");
  }

  /// Runs a command with --json; each line that it prints is a document, nothing else may come.
  int run(std::vector<std::string> words) {
    const std::string command = words[0];
    words.push_back("--json");
    const Ran ran = station.hambrel(words);
    for (const std::string_view line : split(ran.out, '\n'))
      if (!line.empty()) documents += command + "\t" + std::string(line) + "\n";
    if (ran.code != 0) {
      EXPECT_FALSE(ran.out.empty()) << command << ": a failure without a document";
      EXPECT_THAT(ran.err, testing::Not(HasSubstr("Failed"))) << "it stands in the document";
    }
    codes.emplace_back(join(words, " "), ran.code);
    return ran.code;
  }
  void fits() {
    write_file(station.path("documents"), documents);
    const Ran checked = test::run({"/bin/sh", "-c",
                                   "exec python3 " HAMBREL_SOURCE "/tests/scenario/check_documents.py " HAMBREL_SOURCE
                                   "/docs/schema/output.schema.json <" +
                                       station.path("documents").string()});
    EXPECT_EQ(checked.code, 0) << checked.out << checked.err;
  }

  Station station;
  std::string documents;
  std::vector<std::pair<std::string, int>> codes;
};

}  // namespace

TEST_F(Documents, OfEveryCommandFitTheirSchema) {
  const std::string source = station.path("source").string(), repository = station.repository().string();
  // before anything is there
  for (const auto& words : std::vector<std::vector<std::string>>{{"list"},
                                                                 {"ledger"},
                                                                 {"verify"},
                                                                 {"tidy"},
                                                                 {"configs"},
                                                                 {"repo", "list"},
                                                                 {"activate"},
                                                                 {"checkpoint", "list"}})
    EXPECT_EQ(run(words), 0) << words[0];
  EXPECT_EQ(run({"pack", source, "-o", station.path("x.hambrel").string()}), 0);
  EXPECT_EQ(run({"publish", repository}), 0);
  write_file(station.path("recipe/recipe.toml"),
             "[recipe]\nname = \"oar\"\nversion = \"1\"\nsummary = \"oar\"\nlicense = \"MIT\"\narch = \"independent\"\n"
             "[options.long]\ntext = \"t\"\n[[sources]]\nfile = \"oar\"\n"
             "[steps]\ninstall = \"mkdir {stage}/etc; cp oar {stage}/etc; test {option.long} = 0\"\n");
  write_file(station.path("recipe/oar"), "oar\n");
  EXPECT_EQ(run({"pack", "--from", source + "/root", "-o", station.path("draft").string()}), 0);
  const std::string recipe = station.path("recipe").string(), out = station.path("").string();
  EXPECT_EQ(run({"recipe", "check", recipe}), 0);
  EXPECT_EQ(run({"recipe", "show", recipe}), 0);
  EXPECT_EQ(run({"build", recipe, "-n"}), 0);
  EXPECT_EQ(run({"build", recipe, "--host-tools", "-o", out, "--check-reproducible"}), 0);
  EXPECT_EQ(run({"build", recipe, "--host-tools", "-o", out, "--with", "long"}), 1);
  EXPECT_EQ(run({"tidy"}), 0);
  EXPECT_EQ(run({"tidy", "builds", "-n"}), 0);
  EXPECT_EQ(run({"tidy", "builds", "-y"}), 0);
  EXPECT_EQ(run({"tidy", "builds", "-y"}), 0) << "nothing to do";
  EXPECT_EQ(run({"key", "new", station.path("k").string()}), 0);
  EXPECT_EQ(run({"key", "show", station.path("k.pub").string()}), 0);
  EXPECT_EQ(run({"key", "add", station.path("k.pub").string()}), 0);
  EXPECT_EQ(run({"key", "list"}), 0);
  EXPECT_EQ(run({"describe", station.path("x.hambrel").string()}), 0);
  EXPECT_EQ(run({"key", "sign", station.path("x.hambrel").string(), "--key", station.path("k").string()}), 0);
  EXPECT_EQ(run({"key", "drop", "k"}), 0);
  EXPECT_EQ(run({"key", "sign", repository + "/trust/timestamp.json", "--key", station.path("k").string()}), 0);
  EXPECT_EQ(run({"repo", "add", "base", "file://" + repository, "--unsigned"}), 0);
  EXPECT_EQ(run({"refresh"}), 0);
  EXPECT_EQ(run({"group", "list"}), 0);
  EXPECT_EQ(run({"group", "describe", "lights"}), 0);
  EXPECT_EQ(run({"repo", "list"}), 0);
  EXPECT_EQ(run({"repo", "show", "base"}), 0);
  EXPECT_EQ(run({"repo", "rank", "base", "--best", "1"}), 0);
  EXPECT_EQ(run({"install", "-n", "desk"}), 0);
  EXPECT_EQ(run({"install", "-y", "--download-only", "desk"}), 0);
  EXPECT_EQ(run({"install", "lamp", "--save", station.path("plan").string()}), 0);
  EXPECT_EQ(run({"apply", "-n", station.path("plan").string()}), 0);
  EXPECT_EQ(run({"install", "-y", "desk", "lib=1"}), 0);
  EXPECT_EQ(run({"install", "-y", "desk"}), 0) << "nothing to do";
  EXPECT_EQ(run({"install", "-y", "horn"}), 3) << "a refusal with remedies";
  EXPECT_EQ(run({"why", "horn"}), 3);
  EXPECT_EQ(run({"why", "lib"}), 0);
  EXPECT_EQ(run({"needs", "desk"}), 0);
  EXPECT_EQ(run({"needs", "horn"}), 3);
  EXPECT_EQ(run({"needed-by", "lib"}), 0);
  const std::string pictures = station.path("pictures").string();
  EXPECT_EQ(run({"graph", "desk", "-o", station.path("desk.svg").string()}), 0);
  EXPECT_EQ(run({"graph", "desk", "-o", "desk"}), 2);
  EXPECT_EQ(run({"report"}), 0);
  EXPECT_EQ(run({"report", "-o", station.path("report.html").string(), "--figures", pictures}), 0);
  EXPECT_EQ(run({"report", "--plan", station.path("plan").string()}), 2);
  EXPECT_EQ(run({"ledger", "-o", station.path("record.html").string()}), 0);
  for (const auto& words : std::vector<std::vector<std::string>>{{"list"},
                                                                 {"list", "available"},
                                                                 {"list", "--sort", "size"},
                                                                 {"search", "l"},
                                                                 {"describe", "lib", "horn"},
                                                                 {"files", "desk"},
                                                                 {"owner", "/usr/bin/desk"},
                                                                 {"version"},
                                                                 {"verify"}})
    EXPECT_EQ(run(words), 0) << words[0];
  EXPECT_EQ(run({"owner", "/nowhere"}), 1);
  EXPECT_EQ(run({"hold", "-y", "lamp", "--reason", "it flickers", "--until", "2090-01-01"}), 0);
  EXPECT_EQ(run({"list", "held"}), 0);
  write_file(station.repository() / "news.toml", "[[news]]\ndate = \"2026-11-20\"\ntitle = \"t\"\n");
  write_file(station.repository() / "advisories/S-1.json",
             R"({"id": "S-1", "modified": "x", "affected": [{"package": {"ecosystem": "Hambrel", "name": "lamp"},
                 "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}]}]}]})");
  fs::create_directories(station.repository() / "recipes");
  fs::copy(station.path("recipe"), station.repository() / "recipes/oar", fs::copy_options::recursive);
  EXPECT_EQ(run({"publish", repository}), 0);
  EXPECT_EQ(run({"refresh"}), 0);
  EXPECT_EQ(run({"list", "vulnerable"}), 0);
  EXPECT_EQ(run({"list", "buildable"}), 0);
  EXPECT_EQ(run({"search", "oar"}), 0);
  EXPECT_EQ(run({"options", "oar", "long=on"}), 0);
  EXPECT_EQ(run({"install", "--from-source", "oar", "-n"}), 0);
  EXPECT_EQ(run({"export-set", station.path("a.set").string()}), 0);
  EXPECT_EQ(run({"import-set", station.path("a.set").string(), "-y"}), 0);
  write_file(station.path("b.set"), "set = 1\n[installed]\nother = \"1\"\n");
  EXPECT_EQ(run({"compare", "--with", station.path("b.set").string()}), 0);
  EXPECT_EQ(run({"pack", "--installed", "lamp", "-o", station.path("lamp.hambrel").string()}), 0);
  EXPECT_EQ(run({"release", "-y", "lamp"}), 0);
  EXPECT_EQ(run({"unwant", "-y", "desk"}), 0);
  EXPECT_EQ(run({"tidy"}), 0);
  EXPECT_EQ(run({"want", "-y", "desk"}), 0);
  EXPECT_EQ(run({"checkpoint", "make", "evening"}), 0);
  EXPECT_EQ(run({"checkpoint", "list"}), 0);
  write_file(station.root() / "etc/lib", "A\nb\nc\nd\n");
  EXPECT_EQ(run({"upgrade", "-y"}), 0) << "configuration waits";
  EXPECT_EQ(run({"configs"}), 0);
  EXPECT_EQ(run({"configs", "diff", "/etc/lib"}), 0);
  EXPECT_EQ(run({"configs", "settle", "-y", "--configs", "merge"}), 0);
  EXPECT_EQ(run({"downgrade", "-n", "lib"}), 0);
  EXPECT_EQ(run({"downgrade", "-y", "lib=1"}), 0);
  EXPECT_EQ(run({"ledger"}), 0);
  EXPECT_EQ(run({"ledger", "packages"}), 0);
  EXPECT_EQ(run({"ledger", "export"}), 0);
  EXPECT_EQ(run({"ledger", "show", "1"}), 0);
  EXPECT_EQ(run({"undo", "-n", "99"}), 1);
  EXPECT_EQ(run({"undo", "-y", "8"}), 0);
  EXPECT_EQ(run({"redo", "-y", "8"}), 0);
  EXPECT_EQ(run({"rollback", "-y", "evening"}), 0);
  EXPECT_EQ(run({"rollback", "-y", "evening"}), 0) << "nothing to do";
  EXPECT_EQ(run({"checkpoint", "drop", "-y", "evening"}), 0);
  EXPECT_EQ(run({"follow", "-y", "lamp", "stable"}), 0);
  EXPECT_EQ(run({"shelve", "-y", "lamp"}), 0);
  EXPECT_EQ(run({"list", "shelved"}), 0);
  EXPECT_EQ(run({"unshelve", "-y", "lamp"}), 0);
  write_file(station.root() / "usr/bin/lamp", "damaged");
  EXPECT_EQ(run({"verify"}), 11);
  EXPECT_EQ(run({"repair", "-y"}), 0);
  EXPECT_EQ(run({"repair", "-y"}), 0) << "nothing to repair";
  write_file(station.root() / "etc/lib", "edited\n");
  EXPECT_EQ(run({"change", "-y", "--remove", "desk", "--remove", "lib"}), 0);
  EXPECT_EQ(run({"list", "leftover"}), 0);
  EXPECT_EQ(run({"tidy", "configs", "-n"}), 0);
  EXPECT_EQ(run({"remove", "-y", "--purge", "lib"}), 0);
  EXPECT_EQ(run({"remove", "-y", "lib"}), 3) << "it is gone";
  EXPECT_EQ(run({"tidy", "cache", "-n", "--all"}), 0);
  EXPECT_EQ(run({"tidy", "cache", "-y", "--all"}), 0);
  EXPECT_EQ(run({"tidy", "cache", "-y", "--all"}), 0) << "nothing to do";
  EXPECT_EQ(run({"tidy", "attic", "-n", "--keep", "1"}), 0);
  EXPECT_EQ(run({"tidy", "attic", "-y", "--keep", "1"}), 0);
  EXPECT_EQ(run({"tidy", "unneeded", "-y"}), 0);
  EXPECT_EQ(run({"install", "-y", "--prepare", "horn"}), 0);
  EXPECT_EQ(run({"ledger"}), 0) << "with what is prepared";
  EXPECT_EQ(run({"activate", "-n"}), 0);
  EXPECT_EQ(run({"activate"}), 0);
  EXPECT_EQ(run({"recover"}), 0);
  EXPECT_EQ(run({"install", "wick", "-n"}), 0);
  EXPECT_EQ(run({"install", "wick", "-y"}), 3) << "what it runs is no program";
  EXPECT_EQ(run({"install", "wick", "-y", "--without-hooks"}), 0);
  EXPECT_EQ(run({"describe", "wick"}), 0);
  EXPECT_EQ(run({"owner", "/usr/bin/light"}), 0);
  EXPECT_EQ(run({"verify"}), 11) << "a hook is due";
  EXPECT_EQ(run({"pick"}), 0);
  EXPECT_EQ(run({"pick", "/usr/bin/light", "wick", "-y"}), 0);
  EXPECT_EQ(run({"services"}), 0);
  EXPECT_EQ(run({"services", "due"}), 0);
  EXPECT_EQ(run({"services", "start", "beacon"}), 3) << "it does not run here";
  EXPECT_EQ(run({"services", "disable", "beacon", "-n"}), 0);
  EXPECT_EQ(run({"ledger", "show", "5"}), 0);
  EXPECT_EQ(run({"remove", "wick", "-y"}), 0);
  EXPECT_EQ(run({"repo", "disable", "base"}), 0);
  EXPECT_EQ(run({"repo", "drop", "base"}), 0);
  fs::remove(station.root() / "var/lib/hambrel/state.sqlite");
  EXPECT_EQ(run({"list"}), 5) << "the state is gone";
  EXPECT_EQ(run({"repair", "--rebuild", "-n"}), 0);
  fits();
}

TEST_F(Documents, OfFailuresHaveTheExitCodeInThem) {
  station.open();
  EXPECT_EQ(run({"install", "-y", "lib"}), 0);
  documents.clear();
  for (const auto& [words, code] :
       std::vector<std::pair<std::vector<std::string>, int>>{{{"install"}, 2},
                                                             {{"install", "--nosuch", "lib"}, 2},
                                                             {{"install", "lib"}, 0},
                                                             {{"install", "desk"}, 4},
                                                             {{"install", "-y", "nosuch"}, 3},
                                                             {{"install", "-y", "./nosuch.hambrel"}, 1},
                                                             {{"ledger", "show", "99"}, 1},
                                                             {{"undo", "-y", "zero"}, 2},
                                                             {{"list", "nosuch"}, 2},
                                                             {{"refresh", "nosuch"}, 1},
                                                             {{"tidy", "nosuch"}, 2},
                                                             {{"configs", "diff", "/etc/passwd"}, 1},
                                                             {{"checkpoint", "drop", "-y", "nosuch"}, 1},
                                                             {{"pack", "/nonexistent"}, 1},
                                                             {{"key", "show", "/nonexistent"}, 1},
                                                             {{"publish", "/nonexistent"}, 1}}) {
    documents.clear();
    EXPECT_EQ(run(words), code) << words[0];
    if (code == 0) continue;
    const auto document = nlohmann::json::parse(documents.substr(documents.find('\t') + 1));
    EXPECT_EQ(document.at("error").at("code"), code) << documents;
    EXPECT_FALSE(document["error"]["problem"].get<std::string>().empty());
  }
}

}  // namespace hambrel::test
