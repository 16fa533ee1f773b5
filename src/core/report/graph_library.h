// Graphviz, loaded when the first graph is laid out. It is not made for several threads: one graph at a time.
#pragma once

#include <graphviz/gvc.h>

namespace hambrel::report {

/// The functions in use, under their own names.
struct GraphLibrary {
  decltype(&::agmemread) read;
  decltype(&::agclose) close;
  decltype(&::agseterr) set_error_level;
  decltype(&::gvContext) context;
  decltype(&::gvFreeContext) free_context;
  decltype(&::gvLayout) layout;
  decltype(&::gvFreeLayout) free_layout;
  decltype(&::gvRenderData) render;
  decltype(&::gvFreeRenderData) free_render_data;
};

/// Loads it the first time. Throws Error{Internal} if it is not there.
const GraphLibrary& graph_library();

}  // namespace hambrel::report
