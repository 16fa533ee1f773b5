#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "base/amounts.h"
#include "report/figure_parts.h"
#include "report/figures.h"
#include "report/render.h"

namespace hambrel::report {

namespace {

constexpr double kLane = 40, kTop = 46, kBelow = 28, kLeft = 92, kRight = 16;

struct Lane {
  const char* name;
  Tone tone;
};
constexpr std::array<Lane, 5> kLanes{{{"install", Tone::Teal},
                                      {"upgrade", Tone::Blue},
                                      {"remove", Tone::Orange},
                                      {"go back", Tone::Violet},
                                      {"other", Tone::Grey}}};

std::size_t lane_of(const std::string& kind) {
  enum { Install, Upgrade, Remove, Back, Other };
  if (kind == "install" || kind == "change" || kind == "unshelve") return Install;
  if (kind == "upgrade") return Upgrade;
  if (kind == "remove" || kind == "purge" || kind == "shelve") return Remove;
  if (kind == "undo" || kind == "redo" || kind == "rollback" || kind == "downgrade") return Back;
  return Other;
}

std::size_t packages_in(const TransactionFact& one) {
  return one.installed + one.upgraded + one.downgraded + one.removed + one.other;
}

double radius_of(const TransactionFact& one) {
  constexpr double kLeast = 4, kMost = 11;
  return std::min(kMost, kLeast + std::log2(1.0 + static_cast<double>(packages_in(one))));
}

class Timeline {
 public:
  Timeline(const Facts& facts, Drawing& drawing) : facts_(facts), drawing_(drawing) {
    from_ = facts.transactions.front().ended;
    to_ = std::max(facts.now, facts.transactions.back().ended);
    for (const TransactionFact& one : facts.transactions) from_ = std::min(from_, one.ended);
    constexpr double kMargin = 14;
    scale_ = {static_cast<double>(from_), static_cast<double>(to_), kLeft + kMargin, drawing.width - kRight - kMargin};
  }

  void draw() {
    frame();
    checkpoints();
    // what was undone is tied to what undid it
    for (const TransactionFact& one : facts_.transactions)
      if (one.undoes && positions_.contains(*one.undoes)) tie(one);
    for (const TransactionFact& one : facts_.transactions) mark(one);
    const double end =
        keys(drawing_, kLeft, 12,
             {{Tone::Grey, "done"}, {Tone::Grey, "undone since", true}, {Tone::Red, "failed: nothing changed"}});
    drawing_.line({{end, 8}, {end + 18, 8}}, Tone::Violet, 1.25);
    drawing_.polygon({{end + 24, 8}, {end + 17, 4}, {end + 17, 12}}, Tone::Violet);
    drawing_.text(end + 30, 12, "goes back on", kSmall, Tone::Muted);
  }

 private:
  double y_of(std::size_t lane) const { return kTop + kLane * (static_cast<double>(lane) + 0.5); }

  void frame() {
    const double bottom = kTop + kLane * static_cast<double>(kLanes.size());
    for (std::size_t i = 0; i < kLanes.size(); ++i) {
      drawing_.line({{kLeft, y_of(i)}, {drawing_.width - kRight, y_of(i)}}, Tone::Grid);
      drawing_.text(kLeft - 12, y_of(i) + 4, kLanes[i].name, kText, Tone::Ink, Anchor::End);
    }
    constexpr std::size_t kMost = 9;
    for (const Tick& one : time_ticks(from_, to_, kMost)) {
      const double x = scale_(one.at);
      const double half = text_width(one.label, kSmall) / 2;
      drawing_.line({{x, kTop}, {x, bottom}}, Tone::Grid);
      drawing_.text(std::clamp(x, kLeft + half, drawing_.width - half), bottom + 18, one.label, kSmall, Tone::Muted,
                    Anchor::Middle);
    }
    drawing_.line({{kLeft, bottom}, {drawing_.width - kRight, bottom}}, Tone::Axis);
    for (const TransactionFact& one : facts_.transactions)
      positions_[one.id] = {scale_(static_cast<double>(one.ended)), y_of(lane_of(one.kind))};
  }

  void checkpoints() {
    const double bottom = kTop + kLane * static_cast<double>(kLanes.size());
    double last = 0;
    for (const CheckpointFact& one : facts_.checkpoints) {
      const double x = scale_(static_cast<double>(one.time));
      Shape& line = drawing_.line({{x, kTop - 6}, {x, bottom}}, Tone::Ink, 1);
      line.dashed = true;
      line.tip = fmt::format("checkpoint {}, {}", one.name, time_text(one.time));
      const double width = text_width(one.name, kSmall);
      if (x - width / 2 < last) continue;  // there is no room for its name
      const double middle = std::min(x, drawing_.width - width / 2);
      Shape& text = drawing_.text(middle, kTop - 9, one.name, kSmall, Tone::Ink, Anchor::Middle);
      text.halo = true;
      last = middle + width / 2 + 6;
    }
  }

  void tie(const TransactionFact& one) {
    const Point from = positions_[one.id], to = positions_[*one.undoes];
    const double lift = std::min(26.0, 8 + std::abs(from.x - to.x) / 8);
    const Point start{from.x, from.y}, end{to.x, to.y + (to.y < from.y ? 9 : -9)};
    Shape curve{Shape::Kind::Curve,
                {start, {start.x, start.y - lift}, {end.x, end.y + (to.y < from.y ? lift : -lift)}, end}};
    curve.stroke = Tone::Violet;
    curve.width = 1.25;
    curve.tip = fmt::format("transaction {} goes back on transaction {}", one.id, *one.undoes);
    drawing_.shapes.push_back(curve);
    const double up = to.y < from.y ? 1 : -1;
    drawing_.polygon({{end.x, end.y}, {end.x - 4, end.y + up * 7}, {end.x + 4, end.y + up * 7}}, Tone::Violet);
  }

  void mark(const TransactionFact& one) {
    const Point at = positions_[one.id];
    const Lane& lane = kLanes[lane_of(one.kind)];
    std::string tip = fmt::format("{}: {}, {}, {}", one.id, one.kind, time_text(one.ended),
                                  one.is_done() ? count_text(packages_in(one), "package", "packages") : one.result);
    if (one.undone_by) tip += fmt::format("; undone by {}", *one.undone_by);
    if (!one.problem.empty()) tip += "; " + one.problem;
    if (!one.is_done()) {
      constexpr double kArm = 5;
      for (const double side : {-1.0, 1.0})
        drawing_.line({{at.x - kArm, at.y - side * kArm}, {at.x + kArm, at.y + side * kArm}}, Tone::Red, 2.5).tip = tip;
      return;
    }
    Shape& circle = drawing_.circle(at.x, at.y, radius_of(one), one.undone_by ? pale(lane.tone) : lane.tone,
                                    one.undone_by ? lane.tone : Tone::Surface);
    circle.tip = tip;
  }

  const Facts& facts_;
  Drawing& drawing_;
  std::int64_t from_ = 0, to_ = 0;
  Scale scale_;
  std::map<std::int64_t, Point> positions_;
};

/// One line in steps, its values on the left.
void panel(Drawing& drawing, double top, double height, const Scale& time, const std::vector<Tick>& ticks,
           const std::vector<Point>& values, const std::string& title, Tone tone) {
  const Scale scale{0, ticks.back().at, top + height, top};
  for (const Tick& one : ticks) {
    const double y = scale(one.at);
    drawing.line({{kLeft, y}, {drawing.width - kRight, y}}, one.at == 0 ? Tone::Axis : Tone::Grid);
    drawing.text(kLeft - 8, y + 4, one.label, kSmall, Tone::Muted, Anchor::End);
  }
  std::vector<Point> line, below;
  for (const Point& one : values) {
    if (!line.empty()) line.push_back({time(one.x), line.back().y});
    line.push_back({time(one.x), scale(one.y)});
  }
  below = line;
  below.push_back({line.back().x, scale(0)});
  below.push_back({line.front().x, scale(0)});
  drawing.polygon(below, pale(tone));
  drawing.line(line, tone, 2);
  Shape& text = drawing.text(kLeft, top - 8, title, kText, tone);
  text.bold = true;
}

}  // namespace

Figure timeline_figure(const Facts& facts) {
  Figure figure{"timeline", "What was done when", {}, Drawing(kFull, kTop + kLane * kLanes.size() + kBelow), {}};
  figure.data.columns = {"transaction", "time", "kind", "result", "packages", "undoes", "undone by"};
  std::size_t failed = 0, undone = 0;
  for (const TransactionFact& one : facts.transactions) {
    if (!one.is_done()) ++failed;
    if (one.undone_by) ++undone;
    figure.data.rows.push_back({std::to_string(one.id), std::to_string(one.ended), one.kind, one.result,
                                std::to_string(packages_in(one)), one.undoes ? std::to_string(*one.undoes) : "",
                                one.undone_by ? std::to_string(*one.undone_by) : ""});
  }
  if (facts.transactions.empty()) return figure;
  Timeline(facts, figure.drawing).draw();
  figure.caption = fmt::format("{}, {} undone since, {} failed. The larger a mark, the more packages.",
                               count_text(facts.transactions.size(), "transaction", "transactions"), undone, failed);
  figure.drawing.title = figure.title + ": " + figure.caption;
  return figure;
}

Figure trend_figure(const Facts& facts) {
  constexpr double kPanel = 92, kFirst = 24, kSecond = kFirst + kPanel + 38;
  Figure figure{"trend", "How it grew", {}, Drawing(kFull, kSecond + kPanel + kBelow), {}};
  figure.data.columns = {"transaction", "time", "packages", "bytes"};
  std::vector<Point> packages, bytes;
  double most_packages = 1, most_bytes = 1;
  for (const TransactionFact& one : facts.transactions) {
    if (!one.is_done()) continue;
    const auto time = static_cast<double>(one.ended);
    packages.push_back({time, static_cast<double>(one.packages_after)});
    bytes.push_back({time, static_cast<double>(one.bytes_after)});
    most_packages = std::max(most_packages, packages.back().y);
    most_bytes = std::max(most_bytes, bytes.back().y);
    figure.data.rows.push_back({std::to_string(one.id), std::to_string(one.ended), std::to_string(one.packages_after),
                                std::to_string(one.bytes_after)});
  }
  if (packages.empty()) return figure;
  const auto now = static_cast<double>(std::max(facts.now, facts.transactions.back().ended));
  packages.push_back({now, packages.back().y});
  bytes.push_back({now, bytes.back().y});
  Drawing& drawing = figure.drawing;
  const Scale time{packages.front().x, now, kLeft, drawing.width - kRight};
  panel(drawing, kFirst, kPanel, time, byte_ticks(most_bytes), bytes, "disk use", Tone::Blue);
  panel(drawing, kSecond, kPanel, time, count_ticks(most_packages), packages, "packages", Tone::Teal);
  for (const Tick& one : time_ticks(static_cast<std::int64_t>(packages.front().x), static_cast<std::int64_t>(now), 9)) {
    const double half = text_width(one.label, kSmall) / 2;
    drawing.text(std::clamp(time(one.at), kLeft + half, drawing.width - half), kSecond + kPanel + 20, one.label, kSmall,
                 Tone::Muted, Anchor::Middle);
  }
  figure.caption = fmt::format("After each of {}: the files of installed packages, and how many there are.",
                               count_text(figure.data.rows.size(), "transaction", "transactions"));
  drawing.title = figure.title + ": " + figure.caption;
  return figure;
}

}  // namespace hambrel::report
