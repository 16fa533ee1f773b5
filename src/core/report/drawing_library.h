// cairo and Pango, loaded when the first picture is drawn: they bring thirty libraries along.
#pragma once

#include <pango/pangocairo.h>

namespace hambrel::report {

/// The functions in use, under their own names without "cairo_" and "pango_".
struct DrawingLibrary {
  decltype(&::cairo_image_surface_create) image_surface_create;
  decltype(&::cairo_surface_status) surface_status;
  decltype(&::cairo_surface_write_to_png_stream) surface_write_to_png_stream;
  decltype(&::cairo_surface_destroy) surface_destroy;
  decltype(&::cairo_create) create;
  decltype(&::cairo_destroy) destroy;
  decltype(&::cairo_scale) scale;
  decltype(&::cairo_set_source_rgb) set_source_rgb;
  decltype(&::cairo_set_line_width) set_line_width;
  decltype(&::cairo_set_line_join) set_line_join;
  decltype(&::cairo_set_dash) set_dash;
  decltype(&::cairo_new_path) new_path;
  decltype(&::cairo_move_to) move_to;
  decltype(&::cairo_line_to) line_to;
  decltype(&::cairo_curve_to) curve_to;
  decltype(&::cairo_arc) arc;
  decltype(&::cairo_close_path) close_path;
  decltype(&::cairo_fill_preserve) fill_preserve;
  decltype(&::cairo_stroke) stroke;
  decltype(&::cairo_paint) paint;
  decltype(&::pango_cairo_create_layout) cairo_create_layout;
  decltype(&::pango_cairo_show_layout) cairo_show_layout;
  decltype(&::pango_cairo_layout_path) cairo_layout_path;
  decltype(&::pango_font_description_new) font_description_new;
  decltype(&::pango_font_description_free) font_description_free;
  decltype(&::pango_font_description_set_family) font_description_set_family;
  decltype(&::pango_font_description_set_absolute_size) font_description_set_absolute_size;
  decltype(&::pango_font_description_set_weight) font_description_set_weight;
  decltype(&::pango_layout_set_font_description) layout_set_font_description;
  decltype(&::pango_layout_set_text) layout_set_text;
  decltype(&::pango_layout_get_size) layout_get_size;
  decltype(&::pango_layout_get_baseline) layout_get_baseline;
  decltype(&::g_object_unref) unref;
};

/// Loads them the first time. Throws Error{Internal} if they are not there.
const DrawingLibrary& drawing_library();

}  // namespace hambrel::report
