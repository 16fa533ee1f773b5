// Figures and pages as files, in the form that the name of the file asks for.
#pragma once

#include <string>

#include "report/drawing.h"
#include "report/render.h"

namespace hambrel::report {

/// What the end of a name asks for.
enum class Form { Svg, Png, Csv, Dot, Html };
/// Throws Error{Usage} for one that is none of `allowed`.
Form form_of(const std::string& file, const std::vector<Form>& allowed);

/// The bytes of a figure in a form other than Dot and Html.
std::string figure_bytes(const Figure& figure, Form form, Theme theme = Theme::Light);

/// Takes the place of what is there at once, or not at all. Throws Error{Io}.
void write_output(const std::string& file, const std::string& bytes);
/// A figure as NAME.svg, NAME.png and NAME.csv in a directory of the host, which is made where it is missing.
void write_figure(const std::string& directory, const Figure& figure);

}  // namespace hambrel::report
