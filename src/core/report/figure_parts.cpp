#include "report/figure_parts.h"

#include <algorithm>

#include "report/render.h"

namespace hambrel::report {

Drawing bars(const std::vector<Bar>& rows, const std::vector<Tick>& ticks, double width) {
  constexpr double kRow = 26, kBar = 14, kTop = 6, kBelow = 26, kGap = 10;
  double labels = 0, texts = 0;
  for (const Bar& one : rows) {
    labels = std::max(labels, text_width(one.label, kText));
    texts = std::max(texts, text_width(one.text, kSmall));
  }
  labels = std::min(labels, width / 3);
  Drawing drawing(width, kTop + kRow * static_cast<double>(rows.size()) + kBelow);
  const double bottom = drawing.height - kBelow;
  const Scale scale{0, ticks.back().at, labels + kGap, width - texts - kGap};
  for (const Tick& one : ticks) {
    const double x = scale(one.at);
    drawing.line({{x, kTop}, {x, bottom}}, one.at == 0 ? Tone::Axis : Tone::Grid);
    // the last one must not stick out
    const double half = text_width(one.label, kSmall) / 2;
    drawing.text(std::min(x, width - half), bottom + 16, one.label, kSmall, Tone::Muted, Anchor::Middle);
  }
  double y = kTop;
  for (const Bar& one : rows) {
    const double middle = y + kRow / 2;
    drawing.text(labels, middle + 4, fitted(one.label, labels, kText), kText, Tone::Ink, Anchor::End).tip = one.tip;
    Shape& whole = drawing.rect(scale(0), middle - kBar / 2, std::max(0.0, scale(one.value) - scale(0)), kBar,
                                one.strong < one.value ? pale(one.tone) : one.tone);
    whole.tip = one.tip;
    if (one.strong > 0 && one.strong < one.value)
      drawing.rect(scale(0), middle - kBar / 2, scale(one.strong) - scale(0), kBar, one.tone).tip = one.tip;
    drawing.text(scale(one.value) + 6, middle + 4, one.text, kSmall, Tone::Ink).halo = true;
    y += kRow;
  }
  return drawing;
}

double keys(Drawing& drawing, double x, double y, const std::vector<Key>& all) {
  constexpr double kSquare = 10, kBetween = 16;
  for (const Key& one : all) {
    drawing.rect(x, y - kSquare + 1, kSquare, kSquare, one.is_pale ? pale(one.tone) : one.tone,
                 one.is_pale ? one.tone : Tone::None);
    x += kSquare + 5;
    drawing.text(x, y, one.text, kSmall, Tone::Muted);
    x += text_width(one.text, kSmall) + kBetween;
  }
  return x;
}

}  // namespace hambrel::report
