#include "report/output.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/error.h"
#include "base/text.h"
#include "os/file_system.h"
#include "os/host.h"

namespace hambrel::report {

namespace {

constexpr std::array<std::pair<Form, const char*>, 5> kEnds{
    {{Form::Svg, ".svg"}, {Form::Png, ".png"}, {Form::Csv, ".csv"}, {Form::Dot, ".dot"}, {Form::Html, ".html"}}};

/// With its title above it, its caption below it and a margin: what a page says around it.
Drawing framed(const Figure& figure) {
  constexpr double kMargin = 16, kTitle = 40, kCaption = 30;
  Drawing whole(figure.drawing.width + 2 * kMargin, figure.drawing.height + kTitle + kCaption + kMargin / 2);
  whole.title = figure.drawing.title;
  whole.text(kMargin, 25, figure.title, 15).bold = true;
  for (Shape shape : figure.drawing.shapes) {
    for (Point& one : shape.points) one = {one.x + kMargin, one.y + kTitle};
    whole.shapes.push_back(std::move(shape));
  }
  whole.text(kMargin, kTitle + figure.drawing.height + 20, fitted(figure.caption, figure.drawing.width, 12), 12,
             Tone::Muted);
  return whole;
}

}  // namespace

Form form_of(const std::string& file, const std::vector<Form>& allowed) {
  std::vector<std::string> ends;
  for (const auto& [form, end] : kEnds) {
    if (std::find(allowed.begin(), allowed.end(), form) == allowed.end()) continue;
    if (lower(file).ends_with(end)) return form;
    ends.emplace_back(end);
  }
  throw Error(ErrorCode::Usage, fmt::format("{}: the name must end with {}", printable(file), join(ends, ", ")), {},
              fmt::format("for example -o report{}", ends.front()));
}

std::string figure_bytes(const Figure& figure, Form form, Theme theme) {
  switch (form) {
    case Form::Svg: return svg(framed(figure), true);
    case Form::Png: return png(framed(figure), theme);
    case Form::Csv: return figure.data.csv();
    default: throw Error(ErrorCode::Internal, "a figure has no such form");
  }
}

void write_output(const std::string& file, const std::string& bytes) {
  os::open_file_system("/")->replace_file(os::host_path(file), bytes, 0644);
}

void write_figure(const std::string& directory, const Figure& figure) {
  os::open_file_system("/")->make_directories(os::host_path(directory));
  for (const Form form : {Form::Svg, Form::Png, Form::Csv})
    write_output(fmt::format("{}/{}{}", directory, figure.name, kEnds[static_cast<std::size_t>(form)].second),
                 figure_bytes(figure, form));
}

}  // namespace hambrel::report
