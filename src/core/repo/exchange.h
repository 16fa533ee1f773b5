// One transfer from one server by libcurl: what is asked, what comes, and what it means when it ends.
//
// Nothing hangs and nothing grows, see transfer.h. A redirect is followed here and not by the library: never to a less
// safe scheme or to a file, and never with the credentials or headers that another server was meant to get.
#pragma once

#include <chrono>
#include <exception>
#include <memory>
#include <optional>
#include <string>

#include "base/error.h"
#include "repo/curl_library.h"
#include "repo/servers.h"
#include "repo/transfer.h"

namespace hambrel::repo {

class Exchange {
 public:
  using Clock = std::chrono::steady_clock;

  /// Gets bytes in order. Throws Error.
  using Sink = std::function<void(std::string_view)>;
  struct Task {
    std::string url;
    std::optional<std::pair<std::uint64_t, std::uint64_t>> range;  // offset and size
    std::uint64_t limit = 0;                                       // most bytes that are accepted
    std::string if_range;     // the entity tag of what the range belongs to; empty: it does not matter
    std::uint64_t whole = 0;  // bytes that the whole file must have; 0: any number
    bool ends_without_range = false;
    bool is_conditional = false;  // what the request knows of the file was said by this server
    Sink sink;
  };
  Exchange(Task task, const Request& request, const Servers& servers, Clock::time_point began);
  ~Exchange();
  Exchange(const Exchange&) = delete;
  Exchange& operator=(const Exchange&) = delete;

  CURL* handle() const { return handle_; }
  /// Waits until more may come at the rate that is allowed.
  bool is_paused() const { return paused_; }
  void go_on();
  /// Why it is given up, if it is.
  std::optional<std::string> too_slow(Clock::time_point now);
  /// It ended with this code: is there another place where to go on?
  bool follow(CURLcode code);

  struct End {
    std::optional<Error> problem;
    bool absent = false;       // there is no such file
    bool unchanged = false;    // it is the one that the request knows
    bool no_ranges = false;    // the server sent the whole file instead of the range
    bool changed = false;      // it is not the file any more of which some is here
    bool in_a_moment = false;  // the same server may do better then
    bool of_receiver = false;  // the problem is not the server's
    unsigned wait = 0;         // seconds that the server asks for before another try
  };
  End end(CURLcode code) const;

  std::uint64_t received() const { return received_; }  // of what was asked for
  std::uint64_t arrived() const { return arrived_; }    // all
  double seconds() const;
  double seconds_to_first_byte() const;
  const std::optional<std::uint64_t>& whole_size() const { return whole_size_; }
  const std::string& etag() const { return etag_; }
  const std::string& modified() const { return modified_; }
  const std::string& url() const { return task_.url; }

 private:
  static std::size_t receive(char* data, std::size_t one, std::size_t size, void* context);
  static std::size_t receive_header(char* data, std::size_t one, std::size_t size, void* context);
  std::size_t take(std::string_view data);
  void set_up();
  void set_login(bool with_login);
  void set_headers(bool with_headers);
  long status() const;
  long tunnel_refused() const;
  bool is_redirect(CURLcode code) const;
  Error failed(CURLcode code, const std::string& url) const;
  End refused(long status, const std::string& url) const;

  Task task_;
  const Request& request_;
  const Servers& servers_;
  CURL* handle_ = nullptr;
  curl_slist* headers_ = nullptr;
  std::uint64_t received_ = 0, passed_ = 0, arrived_ = 0;  // passed_: sent besides, as the server knows no ranges
  bool paused_ = false, answered_ = false, too_much_ = false, complete_ = false, no_ranges_ = false, changed_ = false;
  unsigned redirects_ = 0;
  std::string bad_redirect_;
  std::optional<std::uint64_t> whole_size_;
  std::string etag_, modified_;
  unsigned wait_ = 0;
  Clock::time_point began_, started_ = Clock::now(), window_began_ = started_;
  std::optional<Clock::time_point> first_byte_;
  std::uint64_t window_arrived_ = 0;
  std::exception_ptr thrown_;  // by the sink: it must not fly through C code
  char message_[CURL_ERROR_SIZE] = {};
};

}  // namespace hambrel::repo
