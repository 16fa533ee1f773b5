// What the code relies on, checked in every build: a broken assumption ends the work at hand with Error{Internal},
// which takes a transaction back like any other error, instead of going on with what can't be.
#pragma once

namespace hambrel {

[[noreturn]] void assertion_failed(const char* condition, const char* what, const char* file, int line);

}  // namespace hambrel

/// `what`: the assumption in words, for whoever reads the report.
#define HAMBREL_ASSERT(condition, what) \
  ((condition) ? static_cast<void>(0) : ::hambrel::assertion_failed(#condition, what, __FILE__, __LINE__))
