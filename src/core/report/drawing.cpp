#include "report/drawing.h"

#include <utility>

namespace hambrel::report {

Tone pale(Tone strong) {
  switch (strong) {
    case Tone::Blue: return Tone::BluePale;
    case Tone::Orange: return Tone::OrangePale;
    case Tone::Teal: return Tone::TealPale;
    case Tone::Violet: return Tone::VioletPale;
    case Tone::Red: return Tone::RedPale;
    case Tone::Grey: return Tone::GreyPale;
    default: return strong;
  }
}

Shape& Drawing::rect(double x, double y, double w, double h, Tone fill, Tone stroke) {
  Shape shape{Shape::Kind::Rect, {{x, y}, {x + w, y + h}}};
  shape.fill = fill;
  shape.stroke = stroke;
  return shapes.emplace_back(std::move(shape));
}

Shape& Drawing::line(std::vector<Point> points, Tone stroke, double thickness) {
  Shape shape{Shape::Kind::Line, std::move(points)};
  shape.stroke = stroke;
  shape.width = thickness;
  return shapes.emplace_back(std::move(shape));
}

Shape& Drawing::polygon(std::vector<Point> points, Tone fill) {
  Shape shape{Shape::Kind::Polygon, std::move(points)};
  shape.fill = fill;
  return shapes.emplace_back(std::move(shape));
}

Shape& Drawing::circle(double x, double y, double radius, Tone fill, Tone stroke) {
  Shape shape{Shape::Kind::Circle, {{x, y}}};
  shape.radius = radius;
  shape.fill = fill;
  shape.stroke = stroke;
  return shapes.emplace_back(std::move(shape));
}

Shape& Drawing::text(double x, double y, std::string text, double size, Tone tone, Anchor anchor) {
  Shape shape{Shape::Kind::Text, {{x, y}}};
  shape.text = std::move(text);
  shape.size = size;
  shape.fill = tone;
  shape.anchor = anchor;
  return shapes.emplace_back(std::move(shape));
}

namespace {

std::string csv_field(const std::string& text) {
  std::string field = text;
  if (!field.empty() && std::string_view("=+-@\t\r").find(field.front()) != std::string_view::npos &&
      field.find_first_not_of("0123456789.-") != std::string::npos)
    field.insert(field.begin(), '\'');
  if (field.find_first_of(",\"\r\n") == std::string::npos) return field;
  std::string quoted = "\"";
  for (const char c : field) {
    if (c == '"') quoted += '"';
    quoted += c;
  }
  return quoted + "\"";
}

void add_line(const std::vector<std::string>& fields, std::string& text) {
  for (std::size_t i = 0; i < fields.size(); ++i) {
    if (i > 0) text += ',';
    text += csv_field(fields[i]);
  }
  text += "\r\n";
}

}  // namespace

std::string Table::csv() const {
  std::string text;
  add_line(columns, text);
  for (const auto& row : rows) add_line(row, text);
  return text;
}

}  // namespace hambrel::report
