#include "repo/index.h"

#include <gtest/gtest.h>

#include <random>

#include "archive/frame_codec.h"
#include "base/error.h"
#include "settings/settings.h"
#include "support/program.h"
#include "trust/documents.h"

namespace hambrel::repo {

namespace {

IndexLine line(const std::string& name, const std::string& version) {
  IndexLine one;
  one.package.name = name;
  one.package.version = Version::parse(version).value();
  one.package.arch = "independent";
  one.channel = "stable";
  one.size = 100;
  one.digest = sha256(name);
  return one;
}

}  // namespace

TEST(Index, IsSortedAndComesBack) {
  const std::string text = index_text({line("b", "1"), line("a", "1"), line("a", "1.10"), line("a", "1.9")});
  const auto lines = parse_index(text, "index");
  ASSERT_EQ(lines.size(), 4U);
  EXPECT_EQ(lines[0].package.title() + ", " + lines[1].package.title() + ", " + lines[3].package.title(),
            "a 1.10, a 1.9, b 1");
  EXPECT_EQ(lines[3].digest, sha256("b"));
  EXPECT_EQ(index_text(lines), text);
}

TEST(Index, ALineThatIsReadIntoAnOldOneHoldsNothingOfThat) {
  std::mt19937 random(11);
  const auto some = [&] { return random() % 2 == 0; };
  const auto text = [&] {
    return some() ? std::string(1 + random() % 60, static_cast<char>('a' + random() % 26)) : "";
  };
  std::vector<IndexLine> lines;
  for (int i = 0; i < 200; ++i) {
    IndexLine one =
        line("p" + std::to_string(i), std::to_string(1 + random() % 9) + "-" + std::string(random() % 30 + 1, '1'));
    Package& package = one.package;
    for (std::string* const each : {&package.summary, &package.description, &package.license, &package.homepage,
                                    &package.maintainer, &package.category, &package.source})
      *each = text();
    if (some()) package.restart = "session";
    if (some()) package.essential = true;
    if (some()) package.parallel = 3;
    if (some()) package.config_globs = {"etc/a/*"};
    if (some()) package.features = {"later"};
    if (some()) package.privileged = {"usr/bin/a"};
    if (some()) package.requires_.push_back(parse_relation("lib >= 2 | other", ""));
    if (some()) package.suggests.push_back(parse_relation("more", ""));
    if (some()) package.conflicts.push_back(parse_constraint("foe", ""));
    if (some()) package.provides.push_back(parse_provided("thing = 1", ""));
    if (some()) one.channel = "beta";
    package.installed_size = random();
    package.file_count = random() % 100;
    one.table_offset = random() % 50;
    one.table_size = random() % 50;
    one.table_digest = sha256(text());
    lines.push_back(std::move(one));
  }
  const std::string written = index_text(lines);
  std::vector<RawIndexLine> old(4);
  std::string read;
  read_index(archive::compress_frame(written, 1), "index", [&](RawIndexLine&& raw) {
    IndexLine one = raw.line;
    raw.relations.each([&](RelationList list, std::string_view relation) {
      if (list == RelationList::Requires) one.package.requires_.push_back(parse_relation(relation, ""));
      if (list == RelationList::Suggests) one.package.suggests.push_back(parse_relation(relation, ""));
      if (list == RelationList::Conflicts) one.package.conflicts.push_back(parse_constraint(relation, ""));
      if (list == RelationList::Provides) one.package.provides.push_back(parse_provided(relation, ""));
    });
    read += line_text(one) + "\n";
    std::swap(raw, old[random() % old.size()]);
  });
  EXPECT_EQ(read, written);
}

/// Lines of all lengths, also of those that no piece of an unpacked file holds as a whole.
std::vector<std::string> lines_of_all_lengths(std::mt19937& random) {
  std::vector<std::string> lines;
  for (int i = 1000; i < 3000; ++i) {
    IndexLine one = line("p" + std::to_string(i), "1");
    one.package.description.assign(random() % 100 == 0 ? random() % 600'000 : random() % 300, 'd');
    lines.push_back(line_text(one) + "\n");
  }
  return lines;
}

TEST(Index, ThatManyThreadsReadComesOutInOrderUpToTheFirstMistake) {
  std::mt19937 random(5);
  const std::vector<std::string> lines = lines_of_all_lengths(random);
  for (int round = 0; round < 12; ++round) {
    const std::size_t wrong = round == 0 ? lines.size() : random() % lines.size();
    std::string text, expected, read;
    for (std::size_t i = 0; i < lines.size(); ++i) {
      const bool is_wrong = i == wrong || (i > wrong && random() % 50 == 0);
      text += is_wrong ? "{}\n" : lines[i];
      if (i < wrong) expected += lines[i].substr(lines[i].find("\"name\""), 14);
    }
    const auto take = [&](const RawIndexLine& raw) { read += "\"name\":\"" + raw.line.package.name + "\""; };
    const std::string message = test::refusal([&] { read_index(archive::compress_frame(text, 1), "index", take); });
    EXPECT_EQ(read, expected);
    EXPECT_EQ(message.substr(0, message.find(": \"")),
              round == 0 ? "accepted" : "index: line " + std::to_string(wrong + 1));
  }
}

TEST(Index, WhoeverTakesALineMayEndTheReading) {
  std::mt19937 random(6);
  std::string text;
  for (const std::string& one : lines_of_all_lengths(random)) text += one;
  const std::string stored = archive::compress_frame(text, 1);
  for (int most = 0; most < 1000; most += 111) {
    int taken = 0;
    const std::string message = test::refusal([&] {
      read_index(stored, "index", [&](const RawIndexLine&) {
        if (taken == most) throw Error(ErrorCode::Invalid, "enough");
        ++taken;
      });
    });
    EXPECT_EQ(message, "enough");
  }
}

TEST(Index, MistakesAreToldWithTheirLine) {
  std::string text = index_text({line("a", "1"), line("b", "1")});
  EXPECT_EQ(test::refusal([&] { parse_index(text + "{\"name\":7}\n", "index"); }),
            "index: line 3: \"name\" must be a text");
  EXPECT_TRUE(
      test::refusal([&] { parse_index(text + "{oops\n", "index"); }).starts_with("index: line 3: not valid JSON: "));
  EXPECT_EQ(test::refusal([&] { parse_index("{\"a\":{\"b\":1,\"b\":2}}\n", "index"); }),
            "index: line 1: the key \"b\" appears twice in one object");
  EXPECT_EQ(test::refusal([&] { parse_index("[1]\n", "index"); }), "index: line 1: it must be a JSON object");
  text.replace(text.rfind("stable"), 6, "Stable");
  EXPECT_EQ(test::refusal([&] { parse_index(text, "index"); }),
            "index: line 2: b: \"channel\" must be the name of a channel");
}

TEST(Metadata, EachDocumentLocksTheNext) {
  const trust::Metadata made = trust::make_metadata(7, {{"index/full-7.jsonl.zst", 7, 3, sha256("abc")}}, 0);
  const trust::Pointer snapshot = trust::read_pointer(made.timestamp, "timestamp", "t");
  EXPECT_EQ(snapshot.path, "trust/7.snapshot.json");
  EXPECT_NO_THROW(trust::check_content(made.snapshot, snapshot, "s"));
  const trust::Pointer targets = trust::read_pointer(made.snapshot, "snapshot", "s");
  EXPECT_NO_THROW(trust::check_content(made.targets, targets, "t"));
  const trust::Pointer index = trust::read_indexes(made.targets, "t").full;
  EXPECT_EQ(index.path, "index/full-7.jsonl.zst");
  EXPECT_EQ(index.version, 7U);
  EXPECT_NO_THROW(trust::check_content("abc", index, "i"));
  EXPECT_THROW(trust::check_content("abd", index, "i"), Error);
  EXPECT_THROW(trust::read_pointer(made.snapshot, "timestamp", "s"), Error);
}

TEST(Settings, MistakesAreToldWithFileAndLine) {
  const test::TempDir root;
  const auto fs = os::open_file_system(root.text());
  const std::string file = root / "etc/hambrel/repos/base.toml";
  const auto with = [&](const std::string& text) {
    test::write_file(file, text);
    const auto all = settings::load_repositories(*fs);
    EXPECT_EQ(all.at(1).problem, "") << "a file beside it";
    return all.at(0).problem;
  };
  test::write_file(root / "etc/hambrel/repos/other.toml", "url = \"http://h/y\"\n");
  EXPECT_EQ(with("url = \"http://h/x\"\nrank = 7\n"), "");
  EXPECT_EQ(with("\nurl = \"ftp://h/x\"\n"), file + ":2: \"ftp://h/x\" is not the URL of a repository");
  EXPECT_EQ(with("url = \"http://h/x\"\nrank = 100\n"), file + ":2: rank must be a whole number from 1 to 99");
  EXPECT_EQ(with("url = \"http://h/x\"\nenable = true\n"), file + ":2: unknown key \"enable\" in this file");
  EXPECT_EQ(with("rank = 3\n"), file + ":1: url is missing");
}

TEST(Settings, EnablingChangesOneLineOfTheAdministratorsFile) {
  const test::TempDir root;
  const auto fs = os::open_file_system(root.text());
  const std::string file = root / "etc/hambrel/repos/base.toml";
  test::write_file(file, "# my mirror\nurl = \"http://h/x\"   # fast\nenabled = true # since May\n");
  settings::set_enabled(*fs, "base", false);
  EXPECT_EQ(test::read_file(file), "# my mirror\nurl = \"http://h/x\"   # fast\nenabled = false # since May\n");
  EXPECT_FALSE(settings::load_repositories(*fs).at(0).enabled);
  EXPECT_THROW(settings::set_enabled(*fs, "bas", false), Error);
}

}  // namespace hambrel::repo
