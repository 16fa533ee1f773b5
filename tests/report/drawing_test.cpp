// Figures as values: areas, axes, tables, folded graphs and what texts from outside become in them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

#include "report/axis.h"
#include "report/graph.h"
#include "report/page.h"
#include "report/render.h"
#include "report/treemap.h"

namespace hambrel::report {

using testing::HasSubstr;
using testing::Not;

TEST(Treemap, AreasAreAsLargeAsTheirValuesFillTheWholeAndDoNotOverlap) {
  std::mt19937 random(7);
  const auto number = [&](unsigned most) { return static_cast<double>(random() % most); };
  for (int round = 0; round < 200; ++round) {
    std::vector<double> values(1 + random() % 60);
    double sum = 0;
    for (double& one : values) sum += one = 1 + number(1U << (random() % 20));
    std::sort(values.rbegin(), values.rend());
    const Area whole{3, 5, 40 + number(900), 30 + number(600)};
    const auto areas = treemap(values, whole);
    ASSERT_EQ(areas.size(), values.size());
    constexpr double kClose = 1e-6;
    for (std::size_t i = 0; i < areas.size(); ++i) {
      const Area& a = areas[i];
      EXPECT_NEAR(a.w * a.h / (whole.w * whole.h), values[i] / sum, kClose);
      EXPECT_GE(a.x, whole.x - kClose);
      EXPECT_GE(a.y, whole.y - kClose);
      EXPECT_LE(a.x + a.w, whole.x + whole.w + kClose);
      EXPECT_LE(a.y + a.h, whole.y + whole.h + kClose);
      for (std::size_t j = 0; j < i; ++j) {
        const Area& b = areas[j];
        const double across = std::min(a.x + a.w, b.x + b.w) - std::max(a.x, b.x);
        const double down = std::min(a.y + a.h, b.y + b.h) - std::max(a.y, b.y);
        EXPECT_TRUE(across < kClose || down < kClose) << "they overlap";
      }
    }
  }
  EXPECT_EQ(treemap({0, 0}, {0, 0, 9, 9}).size(), 2U);
}

TEST(Axis, TicksAreRoundFewAndReachTheLargestValue) {
  for (double most = 0.3; most < 1e13; most *= 1.37)
    for (const auto& ticks : {count_ticks(most), byte_ticks(most)}) {
      EXPECT_EQ(ticks.front().at, 0);
      EXPECT_GE(ticks.back().at, most);
      EXPECT_LE(ticks.size(), 7U);
      EXPECT_LE(ticks.back().at, most * 2.6 + 1) << "half of the picture would be empty";
    }
  for (const std::int64_t span : {1, 59, 7200, 86400 * 3, 86400 * 40, 86400 * 400, 86400 * 9000}) {
    const auto ticks = time_ticks(1'790'000'000, 1'790'000'000 + span, 8);
    EXPECT_LE(ticks.size(), 9U) << span;
    for (std::size_t i = 1; i < ticks.size(); ++i) EXPECT_GT(ticks[i].at, ticks[i - 1].at);
    EXPECT_TRUE(span <= 86400 || !ticks.empty()) << span;
  }
}

TEST(Table, IsWrittenAsEveryProgramReadsItAndStartsNoFormula) {
  const Table table{{"name", "note"}, {{"a", "b,c"}, {"say \"hi\"", "two\nlines"}, {"=cmd()", "-12"}, {"@x", "-x"}}};
  EXPECT_EQ(table.csv(), "name,note\r\na,\"b,c\"\r\n\"say \"\"hi\"\"\",\"two\nlines\"\r\n'=cmd(),-12\r\n'@x,'-x\r\n");
}

TEST(Graph, IsFoldedAroundItsFirstNodeAndCountsWhatItLeavesOut) {
  std::mt19937 random(3);
  for (int round = 0; round < 40; ++round) {
    Graph graph;
    const std::size_t size = 61 + random() % 400;
    for (std::size_t i = 0; i < size; ++i) {
      graph.nodes.push_back({"n" + std::to_string(i), "", Look::PulledIn, ""});
      if (i > 0) graph.edges.push_back({random() % i, i, "", false, false});
    }
    const Graph less = reduced(graph);
    EXPECT_EQ(less.edges.size(), size - 1) << "a tree has none too many";
    for (std::size_t i = 2; i < size; ++i) graph.edges.push_back({0, i, "", false, false});
    EXPECT_EQ(folded(reduced(graph), size).edges.size(), size - 1);
    graph.way = round % 2 == 0 ? Graph::Way::Forward : Graph::Way::Both;
    const Graph small = folded(graph, 40);
    std::size_t kept = 0, counted = 0;
    for (const GraphNode& one : small.nodes) {
      if (one.look == Look::Folded)
        counted += std::stoul(one.name);
      else
        ++kept;
    }
    EXPECT_EQ(kept, 40U);
    EXPECT_EQ(kept + counted, size);
    EXPECT_EQ(small.nodes.front().name, "n0");
    for (const GraphEdge& one : small.edges) EXPECT_LT(std::max(one.from, one.to), small.nodes.size());
  }
}

TEST(Graph, IsDrawnWithEveryNameAndTheSameEachTime) {
  Graph graph;
  graph.title = "t";
  const std::size_t a = graph.node({"<b>\"lamp\"</b>", "1", Look::Asked, ""});
  const std::size_t b = graph.node({"lib\x1b[31m", "2", Look::Missing, ""});
  graph.edge({a, b, ">= 2 & < 3", false, true});
  graph.edge({a, b, "also", true, false});
  ASSERT_EQ(graph.edges.size(), 1U);
  EXPECT_EQ(graph.edges[0].label, ">= 2 & < 3, also");
  const std::string text = svg(draw(graph), true);
  EXPECT_EQ(svg(draw(graph), true), text);
  EXPECT_THAT(text, HasSubstr("&lt;b&gt;&quot;lamp&quot;&lt;/b&gt;"));
  EXPECT_THAT(text, HasSubstr("&gt;= 2 &amp; &lt; 3, also"));
  EXPECT_THAT(text, Not(HasSubstr("\x1b")));
  EXPECT_EQ(png(draw(graph)), png(draw(graph)));
  EXPECT_NE(png(draw(graph)), png(draw(graph), Theme::Dark));
}

TEST(Page, HoldsNothingOfATextThatIsNotShownAsItIs) {
  Page page;
  page.title = "</title><script>x</script>{{foot}}";
  page.subtitles = {"a & b"};
  page.gaps = {"<img src=//x>"};
  page.foot = "SECRET";
  PageTable table;
  table.columns = {{"<i>"}};
  table.rows = {{{"{{{palette}}}\xef\xbf\xbe\x01"}}};
  page.sections = {{"s", "t", "", {}, {table}}};
  const std::string text = html(page);
  for (const char* const markup : {"<script>", "<img", "<i>", "\xef\xbf\xbe", "\x01"})
    EXPECT_THAT(text, Not(HasSubstr(markup)));
  EXPECT_THAT(text, HasSubstr("{{{palette}}}")) << "what comes from outside is no template";
  EXPECT_THAT(text, HasSubstr("&lt;/title&gt;&lt;script&gt;x&lt;/script&gt;{{foot}}"));
  const std::string message = mail(page, 1'790'000'000, "h\r\nBcc: x");
  EXPECT_THAT(message, HasSubstr("From: Hambrel <hambrel@hBccx>\r\nDate: Mon, 21 Sep 2026 14:13:20 +0000\r\n"));
  EXPECT_THAT(message, Not(HasSubstr("\r\nBcc")));
}

}  // namespace hambrel::report
