#include "report/render.h"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <cstdint>
#include <memory>
#include <numbers>

#include "base/error.h"
#include "base/text.h"
#include "report/drawing_library.h"

namespace hambrel::report {

namespace {

constexpr const char* kFamilies = "Inter, DejaVu Sans, sans-serif";

/// By Tone: its name, light, dark. Blue and orange, teal and red differ in lightness as well, so that who can't tell
/// the hues apart still tells them apart.
struct Colour {
  const char* name;
  std::uint32_t light, dark;
};
constexpr std::array<Colour, kTones> kColours{{{"none", 0, 0},
                                               {"ink", 0x1d2733, 0xe6ebf1},
                                               {"muted", 0x5a6878, 0x9fadbd},
                                               {"grid", 0xe1e6ec, 0x2c3742},
                                               {"axis", 0x6b7887, 0x7f8d9c},
                                               {"surface", 0xffffff, 0x161d25},
                                               {"blue", 0x1f5fa8, 0x6fb1ee},
                                               {"blue-pale", 0xdbe8f6, 0x1d3550},
                                               {"orange", 0xb85c00, 0xf0a552},
                                               {"orange-pale", 0xfbe6cf, 0x4a3117},
                                               {"teal", 0x0b7a6b, 0x4fc9b4},
                                               {"teal-pale", 0xd3eee9, 0x143f3a},
                                               {"violet", 0x6d4aa0, 0xb898e6},
                                               {"violet-pale", 0xe8e0f4, 0x35274d},
                                               {"red", 0xb3202f, 0xf58a90},
                                               {"red-pale", 0xf9dcdf, 0x4f1f25},
                                               {"grey", 0x66727f, 0x93a1af},
                                               {"grey-pale", 0xeceff3, 0x28323c}}};

const Colour& colour(Tone tone) { return kColours[static_cast<std::size_t>(tone)]; }

std::string variables(bool dark) {
  std::string text;
  for (std::size_t i = 1; i < kColours.size(); ++i)
    text += fmt::format("--{}:#{:06x};", kColours[i].name, dark ? kColours[i].dark : kColours[i].light);
  return text;
}

/// Short, and never "-0".
std::string number(double value) {
  std::string text = fmt::format("{:.2f}", value);
  while (text.back() == '0') text.pop_back();
  if (text.back() == '.') text.pop_back();
  return text == "-0" ? "0" : text;
}

std::string paint_attributes(const Shape& shape) {
  std::string style = shape.fill == Tone::None ? "fill:none" : fmt::format("fill:var(--{})", colour(shape.fill).name);
  if (shape.stroke != Tone::None)
    style += fmt::format(";stroke:var(--{});stroke-width:{}", colour(shape.stroke).name, number(shape.width));
  if (shape.dashed) style += ";stroke-dasharray:5 4";
  return fmt::format(" style=\"{}\"", style);
}

std::string points_text(const std::vector<Point>& points) {
  std::string text;
  for (const Point& one : points) text += fmt::format("{}{},{}", text.empty() ? "" : " ", number(one.x), number(one.y));
  return text;
}

std::string text_element(const Shape& shape) {
  const char* anchor = "";
  if (shape.anchor == Anchor::Middle) anchor = " text-anchor=\"middle\"";
  if (shape.anchor == Anchor::End) anchor = " text-anchor=\"end\"";
  std::string style = fmt::format("fill:var(--{})", colour(shape.fill).name);
  if (shape.halo) style += ";stroke:var(--surface);stroke-width:3;stroke-linejoin:round;paint-order:stroke";
  return fmt::format("<text x=\"{}\" y=\"{}\" font-size=\"{}\"{}{} style=\"{}\">{}</text>", number(shape.points[0].x),
                     number(shape.points[0].y), number(shape.size), shape.bold ? " font-weight=\"600\"" : "", anchor,
                     style, escaped(shape.text));
}

/// Opened, so that a tip can go into it.
std::string open_element(const Shape& shape, const char*& name) {
  const auto& at = shape.points;
  switch (shape.kind) {
    case Shape::Kind::Rect:
      name = "rect";
      return fmt::format("<rect x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\" rx=\"{}\"", number(at[0].x),
                         number(at[0].y), number(at[1].x - at[0].x), number(at[1].y - at[0].y), number(shape.radius));
    case Shape::Kind::Circle:
      name = "circle";
      return fmt::format("<circle cx=\"{}\" cy=\"{}\" r=\"{}\"", number(at[0].x), number(at[0].y),
                         number(shape.radius));
    case Shape::Kind::Polygon: name = "polygon"; return fmt::format("<polygon points=\"{}\"", points_text(at));
    case Shape::Kind::Line: name = "polyline"; return fmt::format("<polyline points=\"{}\"", points_text(at));
    default: break;
  }
  name = "path";
  std::string path = fmt::format("M{},{}", number(at[0].x), number(at[0].y));
  for (std::size_t i = 1; i + 2 < at.size(); i += 3)
    path += fmt::format(" C{},{} {},{} {},{}", number(at[i].x), number(at[i].y), number(at[i + 1].x),
                        number(at[i + 1].y), number(at[i + 2].x), number(at[i + 2].y));
  return fmt::format("<path d=\"{}\"", path);
}

std::string element(const Shape& shape) {
  if (shape.kind == Shape::Kind::Text) return text_element(shape);
  const char* name = "";
  std::string text = open_element(shape, name) + paint_attributes(shape);
  if (shape.tip.empty()) return text + "/>";
  return fmt::format("{}><title>{}</title></{}>", text, escaped(shape.tip), name);
}

}  // namespace

std::string palette_css() {
  return fmt::format(":root{{{}}}\n@media (prefers-color-scheme:dark){{:root{{{}}}}}\n@media print{{:root{{{}}}}}\n",
                     variables(false), variables(true), variables(false));
}

std::string escaped(std::string_view text) {
  std::string safe;
  // U+FFFE and U+FFFF are no characters of XML
  const auto is_none = [](std::string_view rest) {
    return rest.starts_with("\xef\xbf\xbe") || rest.starts_with("\xef\xbf\xbf");
  };
  const std::string shown = printable_line(text);
  // what is shown is printable: control characters, and bytes that are no UTF-8, are named by their numbers
  for (std::size_t i = 0; i < shown.size(); ++i) switch (const char c = shown[i]) {
      case '\xef':
        if (is_none(std::string_view(shown).substr(i))) {
          safe += "?";
          i += 2;
        } else {
          safe += c;
        }
        break;
      case '&': safe += "&amp;"; break;
      case '<': safe += "&lt;"; break;
      case '>': safe += "&gt;"; break;
      case '"': safe += "&quot;"; break;
      case '\'': safe += "&#39;"; break;
      default: safe += c;
    }
  return safe;
}

std::string svg(const Drawing& drawing, bool alone) {
  std::string text = fmt::format(
      "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} {1}\" "
      "font-family=\"{2}\" role=\"img\" aria-label=\"{3}\">\n",
      number(drawing.width), number(drawing.height), kFamilies, escaped(drawing.title));
  if (alone) {
    text += fmt::format("<title>{}</title>\n<style>{}</style>\n", escaped(drawing.title), palette_css());
    text += "<rect width=\"100%\" height=\"100%\" style=\"fill:var(--surface)\"/>\n";
  }
  for (const Shape& shape : drawing.shapes) text += element(shape) + "\n";
  return text + "</svg>\n";
}

namespace {

/// One layout of Pango, for measuring and for drawing.
class Layout {
 public:
  Layout(cairo_t* cairo, std::string_view text, double size, bool bold) : layout_(all_.cairo_create_layout(cairo)) {
    PangoFontDescription* const font = all_.font_description_new();
    all_.font_description_set_family(font, kFamilies);
    all_.font_description_set_absolute_size(font, size * PANGO_SCALE);
    all_.font_description_set_weight(font, bold ? PANGO_WEIGHT_SEMIBOLD : PANGO_WEIGHT_NORMAL);
    all_.layout_set_font_description(layout_, font);
    all_.font_description_free(font);
    all_.layout_set_text(layout_, text.data(), static_cast<int>(text.size()));
  }
  ~Layout() { all_.unref(layout_); }
  Layout(const Layout&) = delete;
  Layout& operator=(const Layout&) = delete;
  double width() const {
    int width = 0;
    int height = 0;
    all_.layout_get_size(layout_, &width, &height);
    return static_cast<double>(width) / PANGO_SCALE;
  }
  double baseline() const { return static_cast<double>(all_.layout_get_baseline(layout_)) / PANGO_SCALE; }
  PangoLayout* get() const { return layout_; }

 private:
  const DrawingLibrary& all_ = drawing_library();
  PangoLayout* layout_;
};

/// A surface of cairo and its context.
class Canvas {
 public:
  Canvas(int width, int height)
      : surface_(all_.image_surface_create(CAIRO_FORMAT_RGB24, width, height)), cairo_(all_.create(surface_)) {
    if (all_.surface_status(surface_) != CAIRO_STATUS_SUCCESS) {
      release();
      throw Error(ErrorCode::Refused, fmt::format("a picture of {} by {} pixels is too large", width, height), {},
                  "SVG has no such limit");
    }
  }
  ~Canvas() { release(); }
  Canvas(const Canvas&) = delete;
  Canvas& operator=(const Canvas&) = delete;
  cairo_t* get() const { return cairo_; }

  std::string png() const {
    std::string bytes;
    const auto take = [](void* into, const unsigned char* part, unsigned size) {
      static_cast<std::string*>(into)->append(reinterpret_cast<const char*>(part), size);
      return CAIRO_STATUS_SUCCESS;
    };
    if (all_.surface_write_to_png_stream(surface_, take, &bytes) != CAIRO_STATUS_SUCCESS)
      throw Error(ErrorCode::Internal, "cairo could not write a picture");
    return bytes;
  }

 private:
  void release() {
    all_.destroy(cairo_);
    all_.surface_destroy(surface_);
  }

  const DrawingLibrary& all_ = drawing_library();
  cairo_surface_t* surface_;
  cairo_t* cairo_;
};

class Painter {
 public:
  Painter(cairo_t* cairo, Theme theme) : cairo_(cairo), theme_(theme) {}

  void paint(const Shape& shape) {
    if (shape.kind == Shape::Kind::Text) return write(shape);
    trace(shape);
    all_.set_line_width(cairo_, shape.width);
    all_.set_line_join(cairo_, CAIRO_LINE_JOIN_ROUND);
    const std::array<double, 2> dashes{5, 4};
    all_.set_dash(cairo_, dashes.data(), shape.dashed ? 2 : 0, 0);
    if (shape.fill != Tone::None) {
      use(shape.fill);
      all_.fill_preserve(cairo_);
    }
    if (shape.stroke != Tone::None) {
      use(shape.stroke);
      all_.stroke(cairo_);
    }
    all_.new_path(cairo_);
  }
  void use(Tone tone) {
    constexpr double kFull = 255;
    const std::uint32_t value = theme_ == Theme::Dark ? colour(tone).dark : colour(tone).light;
    all_.set_source_rgb(cairo_, (value >> 16 & 0xff) / kFull, (value >> 8 & 0xff) / kFull, (value & 0xff) / kFull);
  }

 private:
  void write(const Shape& shape) {
    const std::string text = printable_line(shape.text);
    const Layout layout(cairo_, text, shape.size, shape.bold);
    double part = 0;
    if (shape.anchor == Anchor::Middle) part = 0.5;
    if (shape.anchor == Anchor::End) part = 1;
    const double x = shape.points[0].x - layout.width() * part, y = shape.points[0].y - layout.baseline();
    all_.move_to(cairo_, x, y);
    if (shape.halo) {
      all_.cairo_layout_path(cairo_, layout.get());
      use(Tone::Surface);
      all_.set_dash(cairo_, nullptr, 0, 0);
      all_.set_line_width(cairo_, 3);
      all_.set_line_join(cairo_, CAIRO_LINE_JOIN_ROUND);
      all_.stroke(cairo_);
      all_.move_to(cairo_, x, y);
    }
    use(shape.fill);
    all_.cairo_show_layout(cairo_, layout.get());
    all_.new_path(cairo_);
  }

  void trace_rect(const Point& a, const Point& b, double radius) {
    constexpr double kQuarter = std::numbers::pi / 2;
    all_.new_path(cairo_);
    all_.arc(cairo_, b.x - radius, a.y + radius, radius, -kQuarter, 0);
    all_.arc(cairo_, b.x - radius, b.y - radius, radius, 0, kQuarter);
    all_.arc(cairo_, a.x + radius, b.y - radius, radius, kQuarter, 2 * kQuarter);
    all_.arc(cairo_, a.x + radius, a.y + radius, radius, 2 * kQuarter, 3 * kQuarter);
    all_.close_path(cairo_);
  }

  void trace(const Shape& shape) {
    const auto& at = shape.points;
    if (shape.kind == Shape::Kind::Rect) return trace_rect(at[0], at[1], shape.radius);
    all_.new_path(cairo_);
    if (shape.kind == Shape::Kind::Circle)
      return all_.arc(cairo_, at[0].x, at[0].y, shape.radius, 0, 2 * std::numbers::pi);
    all_.move_to(cairo_, at[0].x, at[0].y);
    if (shape.kind == Shape::Kind::Curve) {
      for (std::size_t i = 1; i + 2 < at.size(); i += 3)
        all_.curve_to(cairo_, at[i].x, at[i].y, at[i + 1].x, at[i + 1].y, at[i + 2].x, at[i + 2].y);
      return;
    }
    for (const Point& one : at) all_.line_to(cairo_, one.x, one.y);
    if (shape.kind == Shape::Kind::Polygon) all_.close_path(cairo_);
  }

  const DrawingLibrary& all_ = drawing_library();
  cairo_t* cairo_;
  Theme theme_;
};

}  // namespace

std::string png(const Drawing& drawing, Theme theme, double scale) {
  constexpr double kMost = 30000;  // cairo's own limit is 32767
  const double width = std::ceil(drawing.width * scale), height = std::ceil(drawing.height * scale);
  if (width > kMost || height > kMost)
    throw Error(ErrorCode::Refused, fmt::format("a picture of {} by {} pixels is too large", width, height), {},
                "SVG has no such limit");
  const Canvas canvas(static_cast<int>(width), static_cast<int>(height));
  Painter painter(canvas.get(), theme);
  painter.use(Tone::Surface);
  drawing_library().paint(canvas.get());
  drawing_library().scale(canvas.get(), scale, scale);
  for (const Shape& shape : drawing.shapes) painter.paint(shape);
  return canvas.png();
}

double text_width(std::string_view text, double size, bool bold) {
  static const Canvas canvas(1, 1);
  return Layout(canvas.get(), printable_line(text), size, bold).width();
}

std::string fitted(const std::string& text, double room, double size, bool bold) {
  if (text_width(text, size, bold) <= room) return text;
  std::size_t fits = 0;
  std::size_t too_much = text.size();
  while (fits + 1 < too_much) {
    const std::size_t middle = (fits + too_much) / 2;
    (text_width(text.substr(0, middle) + "…", size, bold) <= room ? fits : too_much) = middle;
  }
  // whole characters of UTF-8 only
  while (fits > 0 && (static_cast<unsigned char>(text[fits]) & 0xc0) == 0x80) --fits;
  constexpr std::size_t kLeast = 2;
  return fits < kLeast ? "" : text.substr(0, fits) + "…";
}

}  // namespace hambrel::report
