#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "base/amounts.h"
#include "report/figure_parts.h"
#include "report/figures.h"
#include "report/render.h"
#include "report/treemap.h"

namespace hambrel::report {

namespace {

constexpr double kHeight = 460, kHeader = 18, kLeastTile = 90;  // pixels; square ones of the smallest tile
constexpr std::array kCategoryTones{Tone::Blue, Tone::Teal, Tone::Orange, Tone::Violet, Tone::Grey};

struct Category {
  std::string name;
  ByteCount bytes = 0;
  std::vector<const InstalledFact*> packages;
};

std::vector<Category> categories_of(const Facts& facts) {
  std::map<std::string, Category> by_name;
  for (const InstalledFact& one : facts.packages) {
    const std::string name = one.category.empty() ? "no category" : one.category.substr(0, one.category.find('/'));
    Category& category = by_name[name];
    category.name = name;
    category.bytes += one.bytes;
    category.packages.push_back(&one);
  }
  std::vector<Category> all;
  for (auto& [name, one] : by_name) all.push_back(std::move(one));
  std::stable_sort(all.begin(), all.end(), [](const Category& a, const Category& b) { return a.bytes > b.bytes; });
  for (Category& one : all)
    std::stable_sort(one.packages.begin(), one.packages.end(),
                     [](const InstalledFact* a, const InstalledFact* b) { return a->bytes > b->bytes; });
  return all;
}

std::string frees_text(const InstalledFact& one) {
  if (one.needed_by > 0) return "needed by " + count_text(one.needed_by, "package", "packages");
  return "removing it frees " + size_text(one.freed);
}

class Map {
 public:
  explicit Map(Drawing& drawing, double per_byte) : drawing_(drawing), per_byte_(per_byte) {}

  void category(const Category& category, const Area& area, Tone tone) {
    drawing_.rect(area.x, area.y, area.w, area.h, Tone::Surface, Tone::None);
    Area inside{area.x + 1, area.y + 1, area.w - 2, area.h - 2};
    const std::string title = fmt::format("{} {}", category.name, size_text(category.bytes));
    constexpr double kLowest = 44, kPadding = 6;
    constexpr std::size_t kTooShort = 10;  // bytes of what is left of a title
    const std::string shown_title = fitted(title, area.w - kPadding, kText, true);
    if (area.h > kLowest && (shown_title == title || shown_title.size() > kTooShort)) {
      Shape& text = drawing_.text(area.x + 3, area.y + 13, shown_title, kText, tone);
      text.bold = true;
      inside.y += kHeader;
      inside.h -= kHeader;
    }
    // what would be too small to be seen is one tile
    std::vector<double> values;
    std::size_t shown = 0;
    for (; shown < category.packages.size(); ++shown) {
      const auto bytes = static_cast<double>(category.packages[shown]->bytes);
      if (bytes * per_byte_ < kLeastTile && shown > 0) break;
      values.push_back(bytes);
    }
    double rest = 0;
    for (std::size_t i = shown; i < category.packages.size(); ++i)
      rest += static_cast<double>(category.packages[i]->bytes);
    if (rest > 0) values.push_back(rest);
    const auto areas = treemap(values, inside);
    for (std::size_t i = 0; i < shown; ++i) tile(*category.packages[i], areas[i], tone);
    if (rest > 0)
      label(areas.back(), count_text(category.packages.size() - shown, "smaller", "smaller"),
            size_text(static_cast<ByteCount>(rest)), Tone::Grey, "");
  }

 private:
  void tile(const InstalledFact& one, const Area& area, Tone tone) {
    label(area, one.name, size_text(one.bytes), tone,
          fmt::format("{} {}: {}; {}{}", one.name, one.version, size_text(one.bytes), frees_text(one),
                      one.is_unneeded ? "; nothing needs it any more" : ""),
          one.is_unneeded);
  }

  void label(const Area& area, const std::string& name, const std::string& size, Tone tone, const std::string& tip,
             bool is_unneeded = false) {
    constexpr double kTile = 0.5, kNarrow = 34, kOneLine = 17, kTwoLines = 32, kIn = 5;
    Shape& rect = drawing_.rect(area.x + kTile, area.y + kTile, std::max(0.0, area.w - 2 * kTile),
                                std::max(0.0, area.h - 2 * kTile), pale(tone), tone);
    rect.width = is_unneeded ? 2 : 0.75;
    rect.dashed = is_unneeded;
    rect.tip = tip;
    if (area.w < kNarrow || area.h < kOneLine) return;
    const std::string shown = fitted(name, area.w - 2 * kIn, kSmall);
    constexpr std::size_t kTooShort = 6;  // bytes of what is left of a name
    if (shown != name && shown.size() < kTooShort) return;
    drawing_.text(area.x + kIn, area.y + 13, shown, kSmall, Tone::Ink);
    const bool has_room = area.h >= kTwoLines && text_width(size, kSmall) <= area.w - 2 * kIn;
    if (has_room) drawing_.text(area.x + kIn, area.y + 27, size, kSmall, Tone::Muted);
  }

  Drawing& drawing_;
  double per_byte_;
};

}  // namespace

Figure disk_figure(const Facts& facts) {
  Figure figure{"disk", "What takes the space", {}, Drawing(kFull, kHeight), {}};
  figure.data.columns = {"category", "package", "version", "bytes", "frees", "needed by", "unneeded"};
  const auto categories = categories_of(facts);
  std::vector<double> values;
  for (const Category& one : categories) {
    values.push_back(static_cast<double>(one.bytes));
    for (const InstalledFact* const package : one.packages)
      figure.data.rows.push_back({one.name, package->name, package->version, std::to_string(package->bytes),
                                  std::to_string(package->freed), std::to_string(package->needed_by),
                                  package->is_unneeded ? "yes" : "no"});
  }
  if (facts.bytes == 0) {
    figure.data.rows.clear();
    return figure;
  }
  const auto areas = treemap(values, {0, 0, kFull, kHeight});
  Map map(figure.drawing, kFull * kHeight / static_cast<double>(facts.bytes));
  for (std::size_t i = 0; i < categories.size(); ++i)
    map.category(categories[i], areas[i], kCategoryTones[i % kCategoryTones.size()]);
  figure.caption = fmt::format(
      "Each area is a package, as large as its files, in the group of its category: {} in {}. What nothing needs any "
      "more has a dashed border.",
      size_text(facts.bytes), count_text(facts.packages.size(), "package", "packages"));
  figure.drawing.title = figure.title + ": " + figure.caption;
  return figure;
}

}  // namespace hambrel::report
