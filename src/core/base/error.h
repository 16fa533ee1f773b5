// The one exception type of Hambrel: what should not happen, told so that an administrator can act on it.
//
// What a user may meet in the normal course (a request that can't be met) is a value, see solve/refusal.h.
// Invariant: every Error says what failed, on which path, package or URL, and what to do next.
#pragma once

#include <exception>
#include <string>
#include <string_view>

namespace hambrel {

enum class ErrorCode {
  Usage,        // the command line makes no sense
  Invalid,      // an input (manifest, index, configuration) is malformed
  NotFound,     // something named does not exist
  Refused,      // well-formed, but must not be done
  Declined,     // nobody agreed: declined at the prompt, or nobody to ask
  Untrusted,    // a digest, signature or structure that protects content does not hold
  Locked,       // another run holds the lock
  Unrecovered,  // an interrupted transaction could not be made whole
  Network,      // a transfer failed
  Io,           // the operating system said no
  Undecided,    // the time allowed ran out before there was an answer
  Internal,     // a broken invariant of the program itself
};

class [[nodiscard]] Error : public std::exception {
 public:
  /// `what` says what failed in a clause without a full stop; `where` the path, package, URL or file:line it failed on
  /// (may be empty); `hint` what to do next (may be empty).
  Error(ErrorCode code, std::string what, std::string where = {}, std::string hint = {});

  ErrorCode code() const { return code_; }
  const std::string& problem() const { return problem_; }
  const std::string& where() const { return where_; }
  const std::string& hint() const { return hint_; }
  /// "where: problem", one line, without the hint.
  const char* what() const noexcept override { return whole_.c_str(); }

 private:
  ErrorCode code_;
  std::string problem_, where_, hint_, whole_;
};

/// The exception that is being handled as an Error; one that is not ours as Error{Internal}. Only in a handler.
Error current_error();

/// Throws Error{Io} (Refused for a full disk is still Io) for an errno value; the only translation of errno in the
/// program.
[[noreturn]] void throw_errno(int error_number, std::string_view what, std::string_view where);

}  // namespace hambrel
