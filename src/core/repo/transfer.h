// Fetching by URL: http, https and file, several at a time (libcurl multi), connections kept from one fetch to the
// next.
//
// Nothing hangs: a connection has 10 seconds, a transfer must keep up an average rate over each window of time, and a
// document has a limit for all of it (Pace). Nothing grows: a transfer that brings more than its limit is cut off.
// Nothing is weakened on the way: a redirect never leads from https to http, nor to a file.
// What fails on one server is asked of the next one that has the same files; what may pass is tried again after a
// moment. A server that knows no ranges sends the file from its start: what was not asked for is passed over.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/digests.h"
#include "base/error.h"
#include "base/observer.h"
#include "os/file_system.h"
#include "repo/servers.h"
#include "settings/settings.h"

namespace hambrel::repo {

/// How slow a transfer may be before it is given up.
struct Pace {
  std::uint64_t least_rate = 512;  // bytes a second, on the average of each window
  unsigned window = 30;            // seconds
  unsigned most_seconds = 0;       // for all of it; 0: as long as it takes
};

struct Request {
  std::string url;                                               // where `servers` says nothing else
  std::uint64_t limit = 0;                                       // most bytes that are accepted
  std::optional<std::pair<std::uint64_t, std::uint64_t>> range;  // offset and size: exactly these bytes
  std::function<void(std::string_view)> sink;                    // gets the bytes in order; may throw Error
  std::optional<Error> problem;                                  // set when it failed; Network unless the sink threw
  std::function<void(const std::optional<Error>&)> ended = {};   // told the problem, if any, when no more comes
  Pace pace = {};
  bool only_range = false;                    // end at once, with no_ranges, where the server would send the whole file
  bool no_ranges = false;                     // set: the server sent the whole file instead of the range
  bool absent = false;                        // set with a problem: there is no such file, on any of the servers
  std::optional<std::uint64_t> whole_size{};  // set where the server says it with a range: bytes of the whole file

  std::shared_ptr<Servers> servers{};  // each has the file at `path`; nullptr: there is just the URL
  std::string path{};
  bool shares = false;         // one of many files, which are shared among the servers
  bool may_be_absent = false;  // where it is absent on one server, no other is asked
  /// What came counts for nothing, it comes from its start again. Without it nothing is asked for a second time once
  /// some of it came.
  std::function<void()> again = {};
  /// What came is checked afterwards, so that a broken transfer may go on where it ended, on any server. Of a file
  /// without a range: its size is `limit`, and `has` bytes of it came at another time.
  bool goes_on = false;
  std::uint64_t has = 0;
  /// All has come: throws what is wrong with it, and the next server is asked.
  std::function<void()> verify = {};
  /// Instead of it: all that has come is read again for its SHA-256, together with what came of others, which is
  /// several times as fast as digesting each while it comes (base/digests.h); then this is as `verify`. Best for what
  /// is small enough to be in the page cache still.
  std::function<MessageToRead()> read_again = {};
  std::function<void(const Digest&)> verify_digest = {};
  // What the first server said of the file that is known already: it does not come where it is the same.
  std::string if_etag{}, if_modified{};
  bool unchanged = false;          // set: it is
  std::string etag{}, modified{};  // set where the server says them: RFC 9110, section 8.8
  std::string from{};              // set: the URL that was asked last
};

class Network {
 public:
  /// `parallel`: so many at a time; 0: a few, and more where the time goes into waiting for answers, not into bytes.
  explicit Network(unsigned parallel = 0, settings::FetchLimits limits = {}) : parallel_(parallel), limits_(limits) {}
  ~Network();
  Network(const Network&) = delete;
  Network& operator=(const Network&) = delete;

  /// Runs all requests, some at a time. Failures are left in the requests. Progress in bytes over all.
  /// `stop` is asked a few times a second; true ends everything under way with Error{Declined}. Several threads may
  /// fetch at once, each with connections of its own.
  void fetch(
      std::vector<Request>& requests, Observer& observer, const std::function<bool()>& stop = [] { return false; });

  /// One request into memory; throws its problem.
  std::string text(Request request);
  /// A whole file by way of the disk, where it is gone when it is let go; throws the problem.
  std::unique_ptr<os::ReadableFile> whole_file(const std::string& url, std::uint64_t limit, Observer& observer);
  /// A file, `size` bytes long, of which each read is one request for just these bytes.
  std::unique_ptr<os::ReadableFile> open(std::shared_ptr<Servers> servers, std::string path, std::uint64_t size);
  /// The same where the size has to be asked for. Nothing where the server only sends whole files. Throws
  /// Error{Network}.
  std::unique_ptr<os::ReadableFile> open(const std::string& url);

  /// Those of a repository, and what this run has learned of them.
  std::shared_ptr<Servers> servers(const settings::Repository& repository);
  /// A request for a file of a repository, with the pace of documents.
  Request request(const settings::Repository& repository, std::string path, std::uint64_t limit);

  unsigned parallel() const { return parallel_; }
  const settings::FetchLimits& limits() const { return limits_; }
  /// Of what may take as long as it takes.
  Pace pace() const { return {limits_.least_rate, limits_.window_seconds, 0}; }
  /// Of documents and indexes.
  Pace document_pace() const { return {limits_.least_rate, limits_.window_seconds, limits_.document_seconds}; }

 private:
  class Fetching;
  void* take_connections();
  void give_connections(void* multi);

  const unsigned parallel_;
  const settings::FetchLimits limits_;
  std::atomic<unsigned> learned_ = 0;  // so many at a time an earlier fetch came to
  std::mutex mutex_;
  std::vector<void*> idle_;  // multi handles of libcurl, with their connections
  std::map<std::string, std::shared_ptr<Servers>> servers_;
};

}  // namespace hambrel::repo
