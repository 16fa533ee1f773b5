#include "report/graph_library.h"

#include "base/shared_library.h"

namespace hambrel::report {

namespace {

GraphLibrary load_graph() {
  const std::string hint = "install libgvc6; graphs cannot be laid out without it";
  const SharedLibrary graphs("libcgraph.so.6", hint), layouts("libgvc.so.6", hint);
  GraphLibrary all{};
  graphs.find("agmemread", all.read);
  graphs.find("agclose", all.close);
  graphs.find("agseterr", all.set_error_level);
  layouts.find("gvContext", all.context);
  layouts.find("gvFreeContext", all.free_context);
  layouts.find("gvLayout", all.layout);
  layouts.find("gvFreeLayout", all.free_layout);
  layouts.find("gvRenderData", all.render);
  layouts.find("gvFreeRenderData", all.free_render_data);
  all.set_error_level(AGMAX);  // what it would print goes nowhere: results say what failed
  return all;
}

}  // namespace

const GraphLibrary& graph_library() {
  static const GraphLibrary library = load_graph();
  return library;
}

}  // namespace hambrel::report
