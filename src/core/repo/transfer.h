// Fetching by URL: http, https and file, several at a time (libcurl multi).
//
// Nothing hangs: a connection has 10 seconds, and a transfer that moves less than a byte a second for 30 seconds ends.
// Nothing grows: a transfer that brings more than its limit is cut off.
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

struct Request {
  std::string url;
  std::uint64_t limit = 0;                                       // most bytes that are accepted
  std::optional<std::pair<std::uint64_t, std::uint64_t>> range;  // offset and size: exactly these bytes
  std::function<void(std::string_view)> sink;                    // gets the bytes in order; may throw Error
  std::optional<Error> problem;                                  // set when it failed; Network unless the sink threw
  std::function<void(const std::optional<Error>&)> ended = {};   // told the problem, if any, when no more comes
};

/// Runs all requests, at most `parallel` at a time. Failures are left in the requests. Progress in bytes over all.
/// `stop` is asked a few times a second; true ends everything under way with Error{Declined}.
void fetch_all(
    std::vector<Request>& requests, unsigned parallel, Observer& observer,
    const std::function<bool()>& stop = [] { return false; });

/// One request into memory; throws its problem.
std::string fetch_text(const std::string& url, std::uint64_t limit,
                       std::optional<std::pair<std::uint64_t, std::uint64_t>> range = {});

/// A file behind a URL, `size` bytes long, of which each read is one request for just these bytes.
std::unique_ptr<os::ReadableFile> open_url(std::string url, std::uint64_t size);

}  // namespace hambrel::repo
