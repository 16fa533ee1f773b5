// A drawing as SVG and as PNG, the same bytes in every run.
//
// SVG is written here: its text stays text, and its colours are variables, so that a page it is part of decides between
// light and dark. PNG is drawn by cairo and Pango.
#pragma once

#include <string>
#include <string_view>

#include "report/drawing.h"

namespace hambrel::report {

enum class Theme { Light, Dark };

/// The colours as variables of CSS: one rule, which chooses dark ones where they are wanted, and light ones on paper.
std::string palette_css();

/// `alone`: a file of its own, with the colours in it; else a part of a page that has palette_css().
std::string svg(const Drawing& drawing, bool alone);
/// `scale`: pixels of the picture for one of the drawing. Throws Error{Internal} where the libraries are not there,
/// Error{Refused} for what is larger than pictures can be.
std::string png(const Drawing& drawing, Theme theme = Theme::Light, double scale = 1);

/// Widths of texts in pixels, as Pango would set them.
double text_width(std::string_view text, double size, bool bold = false);
/// As much of it as fits, with an ellipsis; empty where not even that is much.
std::string fitted(const std::string& text, double room, double size, bool bold = false);

/// For text and for the values of attributes, in XML and HTML: no markup, no characters that XML can't have.
std::string escaped(std::string_view text);

}  // namespace hambrel::report
