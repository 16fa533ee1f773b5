#include "report/drawing_library.h"

#include "base/shared_library.h"

namespace hambrel::report {

namespace {

DrawingLibrary load_drawing() {
  const std::string hint = "install libpangocairo; pictures cannot be drawn without it";
  const SharedLibrary cairo("libcairo.so.2", hint), pango("libpango-1.0.so.0", hint),
      pango_cairo("libpangocairo-1.0.so.0", hint), objects("libgobject-2.0.so.0", hint);
  DrawingLibrary all{};
  cairo.find("cairo_image_surface_create", all.image_surface_create);
  cairo.find("cairo_surface_status", all.surface_status);
  cairo.find("cairo_surface_write_to_png_stream", all.surface_write_to_png_stream);
  cairo.find("cairo_surface_destroy", all.surface_destroy);
  cairo.find("cairo_create", all.create);
  cairo.find("cairo_destroy", all.destroy);
  cairo.find("cairo_scale", all.scale);
  cairo.find("cairo_set_source_rgb", all.set_source_rgb);
  cairo.find("cairo_set_line_width", all.set_line_width);
  cairo.find("cairo_set_line_join", all.set_line_join);
  cairo.find("cairo_set_dash", all.set_dash);
  cairo.find("cairo_new_path", all.new_path);
  cairo.find("cairo_move_to", all.move_to);
  cairo.find("cairo_line_to", all.line_to);
  cairo.find("cairo_curve_to", all.curve_to);
  cairo.find("cairo_arc", all.arc);
  cairo.find("cairo_close_path", all.close_path);
  cairo.find("cairo_fill_preserve", all.fill_preserve);
  cairo.find("cairo_stroke", all.stroke);
  cairo.find("cairo_paint", all.paint);
  pango_cairo.find("pango_cairo_create_layout", all.cairo_create_layout);
  pango_cairo.find("pango_cairo_show_layout", all.cairo_show_layout);
  pango_cairo.find("pango_cairo_layout_path", all.cairo_layout_path);
  pango.find("pango_font_description_new", all.font_description_new);
  pango.find("pango_font_description_free", all.font_description_free);
  pango.find("pango_font_description_set_family", all.font_description_set_family);
  pango.find("pango_font_description_set_absolute_size", all.font_description_set_absolute_size);
  pango.find("pango_font_description_set_weight", all.font_description_set_weight);
  pango.find("pango_layout_set_font_description", all.layout_set_font_description);
  pango.find("pango_layout_set_text", all.layout_set_text);
  pango.find("pango_layout_get_size", all.layout_get_size);
  pango.find("pango_layout_get_baseline", all.layout_get_baseline);
  objects.find("g_object_unref", all.unref);
  return all;
}

}  // namespace

const DrawingLibrary& drawing_library() {
  static const DrawingLibrary library = load_drawing();
  return library;
}

}  // namespace hambrel::report
