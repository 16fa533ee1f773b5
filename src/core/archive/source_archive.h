// Unpacking archives that somebody else made: sources of recipes. Tar and zip, compressed in the usual ways, read by
// libarchive.
//
// Invariant: nothing is made outside of the file system that it is unpacked into, whatever names and links the archive
// has. Owners, set-id bits, devices and extended attributes are not taken over.
#pragma once

#include <cstdint>
#include <string>

#include "os/file_system.h"

namespace hambrel::archive {

struct UnpackLimits {
  std::uint64_t bytes = 16ULL << 30;  // of all files together
  std::uint64_t entries = 1'000'000;
};

struct Unpacked {
  std::int64_t newest = 0;  // the latest time of a file in it, seconds since 1970
  std::uint64_t entries = 0;
};

/// Into the root of `into`. `where` names the archive in messages. Throws Error{Invalid} for what is no archive, is cut
/// off, names places outside or is over the limits.
Unpacked unpack(os::ReadableFile& file, os::FileSystem& into, const UnpackLimits& limits, const std::string& where);

}  // namespace hambrel::archive
