// A picture as a value: shapes in pixels, coloured by roles, from which SVG and PNG are made (render.h), and the
// numbers that it shows, from which CSV is made.
//
// Colours are roles, not values: the same drawing is shown light, dark and on paper. Nothing in it is markup: texts are
// shown as they are, whatever they hold.
#pragma once

#include <string>
#include <vector>

namespace hambrel::report {

/// What a colour is for. The pale ones are fills behind text, the strong ones lines, marks and text.
enum class Tone {
  None,
  Ink,      // text
  Muted,    // text of less weight
  Grid,     // lines behind everything
  Axis,     // the one line that values stand on
  Surface,  // what everything lies on
  Blue,
  BluePale,
  Orange,
  OrangePale,
  Teal,
  TealPale,
  Violet,
  VioletPale,
  Red,
  RedPale,
  Grey,
  GreyPale
};
inline constexpr int kTones = static_cast<int>(Tone::GreyPale) + 1;
/// The pale one that belongs to a strong one.
Tone pale(Tone strong);

struct Point {
  double x = 0, y = 0;
};

enum class Anchor { Start, Middle, End };

struct Shape {
  enum class Kind { Rect, Line, Polygon, Curve, Circle, Text };
  Kind kind = Kind::Rect;
  /// Rect: two corners. Line, Polygon: its points. Curve: a start and cubic Bezier segments of three points each.
  /// Circle: its centre. Text: where its baseline begins, or its middle or end is.
  std::vector<Point> points;
  Tone fill = Tone::None, stroke = Tone::None;
  double width = 1;   // of lines
  double radius = 0;  // of corners, or of a circle
  bool dashed = false;
  std::string text{};  // of Text: one line
  double size = 12;    // of Text: pixels
  bool bold = false;
  bool halo = false;  // of Text: the surface shines through around it
  Anchor anchor = Anchor::Start;
  std::string tip{};  // said when somebody points at it
};

class Drawing {
 public:
  Drawing() = default;
  Drawing(double w, double h) : width(w), height(h) {}
  double width = 0, height = 0;
  std::string title{};  // for whoever can't see it
  std::vector<Shape> shapes;

  Shape& rect(double x, double y, double w, double h, Tone fill, Tone stroke = Tone::None);
  Shape& line(std::vector<Point> points, Tone stroke, double width = 1);
  Shape& polygon(std::vector<Point> points, Tone fill);
  Shape& circle(double x, double y, double radius, Tone fill, Tone stroke = Tone::None);
  Shape& text(double x, double y, std::string text, double size = 12, Tone tone = Tone::Ink,
              Anchor anchor = Anchor::Start);
};

/// The numbers of a figure: texts as they are, without units where a column's name has them.
struct Table {
  std::vector<std::string> columns;
  std::vector<std::vector<std::string>> rows;
  /// RFC 4180, with a line of names. What a program for tables would take for a formula begins with '.
  std::string csv() const;
};

struct Figure {
  std::string name;     // of its file: "disk"
  std::string title;    // "What takes the space"
  std::string caption;  // a sentence or two on what is to be seen
  Drawing drawing;
  Table data;
  bool empty() const { return data.rows.empty(); }
};

}  // namespace hambrel::report
