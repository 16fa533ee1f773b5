#include "base/error.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <new>

namespace hambrel {

Error::Error(ErrorCode code, std::string what, std::string where, std::string hint)
    : code_(code),
      problem_(std::move(what)),
      where_(std::move(where)),
      hint_(std::move(hint)),
      whole_(where_.empty() ? problem_ : where_ + ": " + problem_) {}

namespace {

std::string hint_for(int error_number) {
  switch (error_number) {
    case ENOSPC: return "free some space on this file system, then run the same command again";
    case EDQUOT: return "the disk quota is used up: raise it or free some space";
    case EACCES:
    case EPERM: return "run the command as root, or check for immutable files with lsattr";
    case EROFS: return "the file system is mounted read-only: remount it writable first";
    case EIO: return "the disk reports a failure: check the kernel log before going on";
    case EMFILE:
    case ENFILE: return "too many files are open: raise the limit (ulimit -n)";
    case EXDEV: return "the path is on another file system or leaves the root; see docs/transactions.md";
    case ELOOP: return "symbolic links form a loop: check the path with ls -l";
    default: return {};
  }
}

}  // namespace

Error current_error() {
  try {
    throw;
  } catch (const Error& problem) {
    return problem;
  } catch (const std::bad_alloc&) {
    return Error(ErrorCode::Io, "not enough memory", {}, "end other programs or add swap, then try again");
  } catch (const std::exception& problem) {
    return Error(ErrorCode::Internal, problem.what(), {}, "this is a bug: please report it");
  } catch (...) {
    return Error(ErrorCode::Internal, "an unknown exception", {}, "this is a bug: please report it");
  }
}

void throw_errno(int error_number, std::string_view what, std::string_view where) {
  throw Error(ErrorCode::Io, fmt::format("{}: {}", what, std::strerror(error_number)), std::string(where),
              hint_for(error_number));
}

}  // namespace hambrel
