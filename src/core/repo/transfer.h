// Fetching by URL: http, https and file, several at a time (libcurl multi).
//
// Nothing hangs: a connection has 10 seconds, a transfer must keep up an average rate over each window of time, and a
// document has a limit for all of it (Pace). Nothing grows: a transfer that brings more than its limit is cut off.
// Nothing is weakened on the way: a redirect never leads from https to http, nor to a file.
// A server that knows no ranges sends the file from its start: what was not asked for is passed over.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/error.h"
#include "base/observer.h"
#include "os/file_system.h"

namespace hambrel::repo {

/// How slow a transfer may be before it is given up.
struct Pace {
  std::uint64_t least_rate = 512;  // bytes a second, on the average of each window
  unsigned window = 30;            // seconds
  unsigned most_seconds = 0;       // for all of it; 0: as long as it takes
};

struct Request {
  std::string url;
  std::uint64_t limit = 0;                                       // most bytes that are accepted
  std::optional<std::pair<std::uint64_t, std::uint64_t>> range;  // offset and size: exactly these bytes
  std::function<void(std::string_view)> sink;                    // gets the bytes in order; may throw Error
  std::optional<Error> problem;                                  // set when it failed; Network unless the sink threw
  std::function<void(const std::optional<Error>&)> ended = {};   // told the problem, if any, when no more comes
  Pace pace = {};
  bool only_range = false;                    // end at once, with no_ranges, where the server would send the whole file
  bool no_ranges = false;                     // set: the server sent the whole file instead of the range
  bool absent = false;                        // set with a problem: there is no such file
  std::optional<std::uint64_t> whole_size{};  // set where the server says it with a range: bytes of the whole file
};

/// Runs all requests, at most `parallel` at a time. Failures are left in the requests. Progress in bytes over all.
/// `stop` is asked a few times a second; true ends everything under way with Error{Declined}.
void fetch_all(
    std::vector<Request>& requests, unsigned parallel, Observer& observer,
    const std::function<bool()>& stop = [] { return false; });

/// One request into memory; throws its problem.
std::string fetch_text(const std::string& url, std::uint64_t limit,
                       std::optional<std::pair<std::uint64_t, std::uint64_t>> range = {}, const Pace& pace = {});

/// A whole file by way of the disk, where it is gone when it is let go; throws the problem.
std::unique_ptr<os::ReadableFile> fetch_file(const std::string& url, std::uint64_t limit, const Pace& pace,
                                             Observer& observer);

/// A file behind a URL, `size` bytes long, of which each read is one request for just these bytes.
std::unique_ptr<os::ReadableFile> open_url(std::string url, std::uint64_t size);
/// The same where the size has to be asked for. Nothing where the server only sends whole files. Throws Error{Network}.
std::unique_ptr<os::ReadableFile> open_url(const std::string& url, const Pace& pace);

}  // namespace hambrel::repo
