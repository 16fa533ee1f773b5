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
    case Form::Svg: return svg(figure.drawing, true);
    case Form::Png: return png(figure.drawing, theme);
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
