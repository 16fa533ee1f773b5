// Figures and reports: the built program on small roots.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <regex>

#include "base/text.h"
#include "scenario/station.h"

namespace hambrel::test {

using nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class Reports : public testing::Test {
 protected:
  void SetUp() override {
    station.pack("lib", "1-1", "category = \"libraries\"\n", {{"usr/lib/lib", std::string(9000, 'l')}});
    station.pack("lib", "2-1", "category = \"libraries\"\n", {{"usr/lib/lib", std::string(9500, 'L')}});
    station.pack(
        "desk", "1-1",
        "category = \"desk/<script>\"\n[config]\nfiles = [\"etc/*\"]\n[relations]\nrequires = [\"lib >= 1\"]\n",
        {{"usr/bin/desk", "d\n"}, {"etc/desk", "a\n"}});
    station.pack("lamp", "1-1", "[relations]\nrequires = [\"desk\"]\nconflicts = [\"horn\"]\n",
                 {{"usr/bin/lamp", "l\n"}});
    station.pack("horn", "1-1", "", {{"usr/bin/horn", "h\n"}});
    station.open();
    for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
             {"install", "lib=1", "lamp", "-y", "--reason", "<script>alert(1)</script> & \"more\""},
             {"hold", "lib", "-y", "--reason", "</td>"},
             {"checkpoint", "make", "first"},
             {"remove", "lamp", "-y"},
             {"undo", "last", "-y"}})
      ASSERT_EQ(station.hambrel(words).code, 0) << words[0];
    write_file(station.root() / "etc/desk", "mine\n");
    fs::create_directories(out());
  }
  fs::path out() const { return station.path("out"); }
  std::string file(const std::string& name) const { return (out() / name).string(); }
  Ran at_one_time(const std::vector<std::string>& words) const {
    return station.hambrel(words, {{"SOURCE_DATE_EPOCH", "1900000000"}});
  }
  std::string written(std::vector<std::string> words, const std::string& name) const {
    words.insert(words.end(), {"-o", file(name)});
    const Ran ran = at_one_time(words);
    EXPECT_EQ(ran.code, 0) << ran.err;
    return read_file(file(name));
  }
  /// Rows of CSV without quotes in them.
  static std::vector<std::vector<std::string>> rows_of(const std::string& text) {
    std::vector<std::vector<std::string>> rows;
    for (const std::string_view line : split(text, '\n')) {
      if (line.empty()) continue;
      std::vector<std::string> row;
      for (const std::string_view field : split(line.substr(0, line.size() - 1), ',')) row.emplace_back(field);
      rows.push_back(std::move(row));
    }
    rows.erase(rows.begin());
    return rows;
  }
  static void is_good_page(const std::string& path) {
    const Ran checked = run({"tidy", "-e", "-q", "--show-warnings", "no", path});
    EXPECT_EQ(checked.code < 2, true) << checked.err;
    const std::string page = read_file(path);
    EXPECT_THAT(page, Not(HasSubstr("<script")));
    EXPECT_FALSE(std::regex_search(page, std::regex("(src|href)=\"[^#]|url\\(|@import|<link|<iframe|<object"))) << path;
  }
  Station station;
};

TEST_F(Reports, APageTellsTheFactsAndHoldsNoMarkupFromOutside) {
  const std::string page = written({"report"}, "report.html");
  EXPECT_EQ(written({"report"}, "again.html"), page) << "the same bytes";
  is_good_page(file("report.html"));
  const json facts = json::parse(at_one_time({"report", "--json"}).out);
  EXPECT_EQ(facts.at("packages").size(), 3U);
  EXPECT_EQ(facts.at("upgrades").at(0).at("name"), "lib");
  EXPECT_EQ(facts.at("upgrades").at(0).at("held"), true);
  EXPECT_EQ(facts.at("configs").at(0).at("state"), "edited");
  EXPECT_EQ(facts.at("transactions").size(), 4U);
  EXPECT_EQ(facts.at("checkpoints").at(0).at("name"), "first");
  for (const char* const text : {"&lt;script&gt;alert(1)&lt;/script&gt; &amp; &quot;more&quot;", "held: &lt;/td&gt;",
                                 ">not signed<", "/etc/desk", "undone by 4", "back from 3", "first"})
    EXPECT_THAT(page, HasSubstr(text));
  EXPECT_THAT(page, HasSubstr("never")) << "nothing was verified yet";
  ASSERT_EQ(station.hambrel({"verify"}).code, 0);
  EXPECT_EQ(station.json({"report"}).at("verified").at("packages"), 3);
}

TEST_F(Reports, FiguresShowTheNumbersOfTheFacts) {
  ASSERT_EQ(station.hambrel({"remove", "lamp", "-y"}).code, 0);
  ASSERT_EQ(at_one_time({"report", "--figures", out().string()}).code, 0);
  const json facts = json::parse(at_one_time({"report", "--json"}).out);
  std::map<std::string, std::uint64_t> bytes;
  for (const auto& row : rows_of(read_file(out() / "disk.csv"))) bytes[row[1]] = std::stoull(row[3]);
  for (const json& one : facts.at("packages")) EXPECT_EQ(bytes.at(one.at("name")), one.at("bytes"));
  const auto timeline = rows_of(read_file(out() / "timeline.csv"));
  ASSERT_EQ(timeline.size(), facts.at("transactions").size());
  for (std::size_t i = 0; i < timeline.size(); ++i) {
    const json& one = facts.at("transactions").at(i);
    EXPECT_EQ(timeline[i][0], std::to_string(one.at("id").get<int>()));
    EXPECT_EQ(timeline[i][2], one.at("kind"));
    EXPECT_EQ(timeline[i][6], one.at("undone_by").is_null() ? "" : std::to_string(one.at("undone_by").get<int>()));
  }
  // what was installed after each transaction, by its count
  std::vector<std::string> packages;
  for (const auto& row : rows_of(read_file(out() / "trend.csv"))) packages.push_back(row[2]);
  EXPECT_THAT(packages, testing::ElementsAre("3", "3", "2", "3", "2"));
  for (const auto& row : rows_of(read_file(out() / "upgrades.csv"))) EXPECT_EQ(row[0], "lib");
  for (const char* const name : {"disk", "timeline", "trend", "space", "way-back", "upgrades"}) {
    const std::string svg = read_file(out() / (std::string(name) + ".svg"));
    std::smatch size;
    ASSERT_TRUE(std::regex_search(svg, size, std::regex("width=\"([0-9.]+)\" height=\"([0-9.]+)\""))) << name;
    EXPECT_EQ(run({"python3", "-c", "import sys, xml.dom.minidom as x; x.parse(sys.argv[1])",
                   file(std::string(name) + ".svg")})
                  .code,
              0);
    if (std::string_view(name) != "timeline" && std::string_view(name) != "space")
      continue;  // looking at each pixel takes time
    const Ran seen = run({"python3", HAMBREL_SOURCE "/tests/scenario/picture.py", file(std::string(name) + ".png")});
    ASSERT_EQ(seen.code, 0) << seen.err;
    std::istringstream numbers(seen.out);
    double width = 0;
    double height = 0;
    int colours = 0;
    numbers >> width >> height >> colours;
    EXPECT_EQ(width, std::ceil(std::stod(size[1]))) << name;
    EXPECT_EQ(height, std::ceil(std::stod(size[2]))) << name;
    EXPECT_GT(colours, 10) << name << " is blank";
  }
}

TEST_F(Reports, GraphsShowWhatIsNeededWhatAPlanChangesAndWhyItIsRefused) {
  const std::string svg = written({"graph", "lamp"}, "needs.svg");
  for (const char* const text : {">lamp<", ">desk<", ">lib<", "&gt;= 1", "What lamp needs", "1-1, held"})
    EXPECT_THAT(svg, HasSubstr(text));
  EXPECT_EQ(rows_of(written({"graph", "lamp"}, "needs.csv")).size(), 2U);
  EXPECT_THAT(written({"graph", "lamp"}, "needs.dot"), HasSubstr("n1 -> n2 [label=\">= 1\"]"));
  EXPECT_THAT(written({"graph", "lib", "--needed-by"}, "users.csv"), HasSubstr("lamp,1-1,desk,1-1"));
  EXPECT_EQ(rows_of(written({"graph", "desk", "--both"}, "both.csv")).size(), 2U);
  EXPECT_EQ(rows_of(written({"graph", "lamp", "--depth", "1"}, "one.csv")).size(), 1U);
  const std::string why = written({"graph", "horn", "--refused"}, "why.svg");
  for (const char* const text : {">horn<", ">lamp<", "in the way", "conflicts with", "asked for"})
    EXPECT_THAT(why, HasSubstr(text));
  EXPECT_THAT(station.hambrel({"graph", "lamp", "--refused", "-o", file("x.svg")}).err, HasSubstr("nothing prevents"));
  ASSERT_EQ(station.hambrel({"change", "--upgrade", "lib", "--release", "lib", "--save", file("big.plan")}).code, 0);
  EXPECT_THAT(written({"graph", "--plan", file("big.plan")}, "plan.svg"), HasSubstr("upgrade 1-1 -&gt; 2-1"));
  EXPECT_THAT(written({"report", "--plan", file("big.plan")}, "review.html"), HasSubstr("The system is as it was"));
  is_good_page(file("review.html"));
  ASSERT_EQ(station.hambrel({"remove", "lamp", "-y"}).code, 0);
  EXPECT_THAT(written({"report", "--plan", file("big.plan")}, "review.html"), HasSubstr("it has to be made anew"));
}

TEST_F(Reports, EachCommandInAReportIsForTheRootThatItIsAbout) {
  ASSERT_EQ(station.hambrel({"change", "--upgrade", "lib", "--release", "lib", "--save", file("big.plan")}).code, 0);
  const std::map<std::string, std::string> texts = {
      {"page", written({"report"}, "report.html")},
      {"mail", at_one_time({"report", "--mail"}).out},
      {"facts", at_one_time({"report", "--json"}).out},
      {"record", written({"ledger"}, "record.html")},
      {"transaction", written({"ledger", "show", "1"}, "one.html")},
      {"review", written({"report", "--plan", file("big.plan")}, "review.html")}};
  const std::string root = "--root " + station.root().string();
  for (const auto& [name, text] : texts) {
    std::smatch command;
    EXPECT_FALSE(std::regex_search(text, command, std::regex("hambrel [a-z]+"))) << name << ": " << command.str();
    const bool has_one = name != "record";
    EXPECT_EQ(text.find("hambrel " + root) != std::string::npos, has_one) << name;
  }
  EXPECT_THAT(texts.at("page"), HasSubstr("hambrel " + root + " tidy"));
  EXPECT_THAT(texts.at("review"), HasSubstr("hambrel " + root + " apply " + file("big.plan")));
}

TEST_F(Reports, APlanThatChangesNothingIsNoGraph) {
  const Ran none = station.hambrel({"graph", "--plan", "-o", file("x.svg")});
  EXPECT_EQ(none.code, 0) << none.err;
  EXPECT_EQ(none.out, "Nothing to draw: the plan changes no package.\n");
  EXPECT_EQ(station.json({"graph", "--plan", "-o", file("x.svg")}).at("result"), "nothing to do");
  EXPECT_FALSE(fs::exists(file("x.svg")));
}

TEST_F(Reports, TheRecordIsAPageAndSoIsEachTransaction) {
  const std::string record = written({"ledger"}, "record.html");
  is_good_page(file("record.html"));
  EXPECT_THAT(record, HasSubstr("4 transactions"));
  const std::string one = written({"ledger", "show", "1"}, "one.html");
  is_good_page(file("one.html"));
  for (const char* const text : {"Transaction 1: install", ">lamp<", "lamp requires desk"})
    EXPECT_THAT(one, HasSubstr(text));
  EXPECT_THAT(written({"ledger"}, "timeline.svg"), HasSubstr("<svg"));
  EXPECT_EQ(station.hambrel({"ledger", "packages", "-o", file("x.html")}).code, 2);
  EXPECT_EQ(station.hambrel({"ledger", "show", "1", "-o", file("x.svg")}).code, 2);
}

TEST_F(Reports, AMailHasThePageAttachedAndIsReadByOthers) {
  const std::string page = written({"report"}, "report.html");
  const Ran mail = at_one_time({"report", "--mail"});
  ASSERT_EQ(mail.code, 0);
  write_file(out() / "mail", mail.out);
  const Ran read = run({"python3", "-c",
                        "import email, email.policy, sys\n"
                        "m = email.message_from_binary_file(open(sys.argv[1], 'rb'), policy=email.policy.default)\n"
                        "text, page = m.iter_parts()\n"
                        "assert m['From'].addresses and m['Date'].datetime and m['Message-ID'] and not m.defects\n"
                        "assert page.get_filename() == 'report.html'\n"
                        "assert page.get_payload(decode=True) == open(sys.argv[2], 'rb').read()\n"
                        "print(m['Subject']); print(text.get_content())\n",
                        file("mail"), file("report.html")});
  ASSERT_EQ(read.code, 0) << read.err;
  EXPECT_THAT(read.out, HasSubstr("The packages of"));
  EXPECT_THAT(read.out, HasSubstr("packages: 3 (2 wanted, 1 pulled in)"));
  EXPECT_THAT(read.out, HasSubstr("<script>alert(1)</script> & \"more\"")) << "as plain text it is only text";
}

TEST_F(Reports, AnEmptyRootHasAReportAndBadNamesAreRefusedAtOnce) {
  const Station empty;
  const std::string page = empty.path("empty.html").string();
  ASSERT_EQ(empty.hambrel({"report", "-o", page}).code, 0);
  is_good_page(page);
  EXPECT_THAT(read_file(page), HasSubstr("Nothing is installed."));
  EXPECT_THAT(empty.hambrel({"report", "--figures", empty.path("f").string()}).out, HasSubstr("nothing to draw"));
  const Ran nowhere = station.hambrel({"report"});
  EXPECT_EQ(nowhere.code, 2);
  EXPECT_THAT(nowhere.err, HasSubstr("-o report.html"));
  EXPECT_THAT(station.hambrel({"report", "-o", file("x.pdf")}).err, HasSubstr("must end with .html"));
  EXPECT_THAT(station.hambrel({"graph", "lamp", "-o", file("x.jpg")}).err, HasSubstr(".svg, .png, .csv, .dot"));
  EXPECT_EQ(station.hambrel({"graph", "lamp", "--needs", "--refused", "-o", file("x.svg")}).code, 2);
  EXPECT_EQ(station.hambrel({"graph", "lamp", "-o", "/nosuch/x.svg"}).code, 1);
  EXPECT_THAT(station.hambrel({"graph", "nosuch", "-o", file("x.svg")}).err, HasSubstr("nosuch"));
  EXPECT_FALSE(fs::exists(file("x.svg")));
}

TEST_F(Reports, MirrorsAreDrawnAsTheyCompare) {
  const Ran ranked = station.hambrel({"repo", "rank", "base", "--best", "1", "--figure", file("mirrors.svg")});
  ASSERT_EQ(ranked.code, 0) << ranked.err;
  const std::string svg = read_file(out() / "mirrors.svg");
  for (const std::string& text : {std::string("in use"), "file://" + station.repository().string()})
    EXPECT_THAT(svg, HasSubstr(text.substr(0, 24)));
  EXPECT_EQ(station.hambrel({"repo", "rank", "base", "--best", "1", "--figure", file("x.html")}).code, 2);
}

TEST_F(Reports, NoOtherCommandLoadsALibraryThatDraws) {
  const auto loads = [&](const std::vector<std::string>& words) {
    const Ran ran = station.hambrel(words, {{"LD_DEBUG", "files"}});
    return std::regex_search(ran.err, std::regex("lib(cairo|pango|gvc|cgraph)"));
  };
  EXPECT_TRUE(loads({"graph", "lamp", "-o", file("x.png")}));
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"list"}, {"needs", "lamp"}, {"ledger"}, {"upgrade", "-n"}, {"report", "--json"}, {"verify"}})
    EXPECT_FALSE(loads(words)) << words[0];
}

}  // namespace hambrel::test
