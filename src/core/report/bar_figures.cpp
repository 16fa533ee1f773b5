#include <fmt/format.h>

#include <algorithm>

#include "base/amounts.h"
#include "base/text.h"
#include "report/figure_parts.h"
#include "report/figures.h"
#include "report/render.h"

namespace hambrel::report {

namespace {

constexpr std::size_t kMostBars = 16;
constexpr double kDaySeconds = 24 * 60 * 60;

double most_of(const std::vector<Bar>& rows) {
  double most = 1;
  for (const Bar& one : rows) most = std::max(most, one.value);
  return most;
}

void finish(Figure& figure) { figure.drawing.title = figure.title + ": " + figure.caption; }

}  // namespace

Figure space_figure(const Facts& facts) {
  Figure figure{"space", "What can be freed", {}, {}, {}};
  figure.data.columns = {"area", "count", "bytes", "free", "command"};
  std::vector<Bar> rows;
  for (const SpaceFact& one : facts.space) {
    if (one.bytes == 0) continue;
    figure.data.rows.push_back(
        {one.area, std::to_string(one.count), std::to_string(one.bytes), std::to_string(one.free), one.command});
    rows.push_back({one.area, static_cast<double>(one.bytes), static_cast<double>(one.free), size_text(one.bytes),
                    Tone::Orange,
                    fmt::format("{}: {}, of which {} can be freed: {}", one.area, size_text(one.bytes),
                                size_text(one.free), one.command)});
  }
  if (rows.empty()) return figure;
  figure.drawing = bars(rows, byte_ticks(most_of(rows)), kHalf);
  figure.caption = fmt::format("Up to {} of what does not belong to the installed packages. Pale: what stays needed.",
                               size_text(facts.to_be_freed()));
  finish(figure);
  return figure;
}

Figure way_back_figure(const Facts& facts) {
  Figure figure{"way-back", "What the way back costs", {}, {}, {}};
  figure.data.columns = {"transaction", "time", "kind", "bytes"};
  std::vector<Bar> rows;
  ByteCount bytes = 0, rest = 0;
  std::size_t count = 0, shown = 0;
  for (auto one = facts.transactions.rbegin(); one != facts.transactions.rend(); ++one) {
    if (!one->attic) continue;
    ++count;
    bytes += *one->attic;
    figure.data.rows.push_back(
        {std::to_string(one->id), std::to_string(one->ended), one->kind, std::to_string(*one->attic)});
    if (*one->attic == 0) continue;  // it only brought something
    ++shown;
    if (rows.size() < kMostBars)
      rows.push_back({fmt::format("{} {}", one->id, one->kind), static_cast<double>(*one->attic), 0,
                      size_text(*one->attic), Tone::Violet,
                      facts.copyable(fmt::format("hambrel ledger show {}", one->id))});
    else
      rest += *one->attic;
  }
  if (rows.empty()) {
    figure.data.rows.clear();
    return figure;
  }
  for (Bar& one : rows) one.strong = one.value;
  if (shown > kMostBars)
    rows.push_back({fmt::format("{} earlier", shown - kMostBars),
                    static_cast<double>(rest),
                    static_cast<double>(rest),
                    size_text(rest),
                    Tone::Grey,
                    {}});
  figure.drawing = bars(rows, byte_ticks(most_of(rows)), kHalf);
  figure.caption = fmt::format("{} can be undone; the attic keeps {} for that.",
                               count_text(count, "transaction", "transactions"), size_text(bytes));
  finish(figure);
  return figure;
}

Figure upgrades_figure(const Facts& facts) {
  Figure figure{"upgrades", "How long upgrades wait", {}, {}, {}};
  figure.data.columns = {"package", "from", "to", "installed", "days", "held", "fixes"};
  auto all = facts.upgrades;
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.since < b.since; });
  std::vector<Bar> rows;
  double most = 1;
  std::size_t held = 0;
  for (const UpgradeFact& one : all) {
    const double days = std::max(0.0, static_cast<double>(facts.now - one.since) / kDaySeconds);
    figure.data.rows.push_back({one.name, one.from, one.to, std::to_string(one.since), fmt::format("{:.0f}", days),
                                one.is_held ? "yes" : "no", join(one.fixes, "; ")});
    held += one.is_held ? 1 : 0;
    most = std::max(most, days);
    if (rows.size() == kMostBars) continue;
    Tone tone = one.is_held ? Tone::Grey : Tone::Blue;
    if (!one.fixes.empty()) tone = Tone::Red;
    rows.push_back(
        {fmt::format("{} {}", one.name, one.from), days, days, "-> " + one.to, tone,
         fmt::format("{}: installed {}{}", one.name, age_text(facts.now, one.since), one.is_held ? ", held" : "")});
  }
  if (rows.empty()) return figure;
  auto ticks = count_ticks(most);
  ticks.back().label += ticks.back().label == "1" ? " day" : " days";
  figure.drawing = bars(rows, ticks, kFull);
  constexpr double kLine = 22;
  figure.drawing.height += kLine;
  keys(figure.drawing, 0, figure.drawing.height - 6,
       {{Tone::Blue, "can be upgraded"}, {Tone::Grey, "held"}, {Tone::Red, "fixes a known security problem"}});
  figure.caption = fmt::format("Days since the installed version came, of {} with a newer one{}; {} held.",
                               count_text(all.size(), "package", "packages"),
                               all.size() > kMostBars ? fmt::format(", the {} oldest", kMostBars) : "", held);
  finish(figure);
  return figure;
}

Figure mirrors_figure(const std::string& repository, const std::vector<repo::MirrorMeasure>& measures) {
  Figure figure{"mirrors", "How the mirrors of " + repository + " compare", {}, {}, {}};
  figure.data.columns = {"mirror", "in use",   "behind",           "milliseconds",
                         "least",  "greatest", "bytes per second", "problem"};
  std::vector<Bar> rows;
  constexpr double kMebibyte = 1 << 20, kMilli = 1000;
  for (const repo::MirrorMeasure& one : measures) {
    const bool is_known = one.milliseconds.is_known() && one.rate.is_known();
    // what a mebibyte takes, which they are ordered by
    const double takes = is_known ? one.milliseconds.median + kMebibyte / one.rate.median * kMilli : 0;
    const auto number = [](double value) { return fmt::format("{:.1f}", value); };
    figure.data.rows.push_back({shown_url(one.url), one.in_use ? "yes" : "no", std::to_string(one.behind),
                                is_known ? number(one.milliseconds.median) : "",
                                is_known ? number(one.milliseconds.least) : "",
                                is_known ? number(one.milliseconds.greatest) : "",
                                is_known ? fmt::format("{:.0f}", one.rate.median) : "", one.problem});
    std::string state = fmt::format("{:.1f} ms{}", takes, one.in_use ? ", in use" : "");
    if (one.behind > 0) state = count_text(one.behind, "update", "updates") + " behind";
    if (!one.problem.empty()) state = "unusable";
    const Tone good = one.in_use ? Tone::Blue : Tone::Teal;
    rows.push_back({shown_url(one.url), takes, is_known ? std::min(takes, one.milliseconds.median) : 0, state,
                    one.is_good() ? good : Tone::Red, one.problem});
  }
  if (rows.empty()) return figure;
  auto ticks = count_ticks(most_of(rows));
  ticks.back().label += " ms";
  figure.drawing = bars(rows, ticks, kFull);
  constexpr double kLine = 22;
  figure.drawing.height += kLine;
  keys(figure.drawing, 0, figure.drawing.height - 6,
       {{Tone::Blue, "in use"}, {Tone::Teal, "spare"}, {Tone::Red, "behind or unusable"}});
  figure.caption = "Time for a request (strong) and for a mebibyte with it, medians.";
  finish(figure);
  return figure;
}

std::vector<Figure> figures_of(const Facts& facts) {
  std::vector<Figure> all{disk_figure(facts),  timeline_figure(facts), trend_figure(facts),
                          space_figure(facts), way_back_figure(facts), upgrades_figure(facts)};
  std::erase_if(all, [](const Figure& one) { return one.empty(); });
  return all;
}

}  // namespace hambrel::report
