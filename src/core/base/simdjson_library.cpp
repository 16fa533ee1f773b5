#include "base/simdjson_library.h"

#include <simdjson.h>

#include "base/shared_library.h"

namespace hambrel {

namespace {

/// All that simdjson's header wants of its library.
struct SimdjsonLibrary {
  simdjson::internal::atomic_ptr<const simdjson::implementation>& (*active_implementation)();
  const simdjson::internal::error_code_info* error_codes;
};

SimdjsonLibrary load_simdjson() {
  const SharedLibrary library(HAMBREL_SIMDJSON_FILE, "install simdjson; package lists cannot be read without it");
  SimdjsonLibrary all{};
  library.find("_ZN8simdjson25get_active_implementationEv", all.active_implementation);
  library.find("_ZN8simdjson8internal11error_codesE", all.error_codes);
  return all;
}

const SimdjsonLibrary& simdjson_library() {
  static const SimdjsonLibrary library = load_simdjson();
  return library;
}

}  // namespace

void load_simdjson() { simdjson_library(); }

const char* simdjson_message(int error) { return simdjson_library().error_codes[error].message; }

}  // namespace hambrel

simdjson::internal::atomic_ptr<const simdjson::implementation>& simdjson::get_active_implementation() {
  return hambrel::simdjson_library().active_implementation();
}
