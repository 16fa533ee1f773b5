// The servers that have the same files, and what this run has learned of them: which failed, and how fast each is.
//
// Which one is asked: one that did not fail before one that did; of those the first in the administrator's order, or,
// where many files are shared among them, the one that is likely to be done first.
// It may be used by several threads at once.
#pragma once

#include <chrono>
#include <cstdint>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "settings/repository.h"

namespace hambrel::repo {

class Servers {
 public:
  /// Of one file, or of all below a URL.
  explicit Servers(std::string url);
  explicit Servers(const settings::Repository& repository);
  Servers(const Servers&) = delete;
  Servers& operator=(const Servers&) = delete;

  std::size_t count() const { return servers_.size(); }
  const settings::Access& access() const { return access_; }
  /// The repository's; empty: there is none.
  const std::string& name() const { return name_; }
  /// Where a file is on one of them; an empty path: the URL itself.
  std::string url(std::size_t server, std::string_view path) const;

  /// The next one to ask of those that are not marked; nothing: all are. `shares`: many files come at once.
  std::optional<std::size_t> choose(const std::vector<bool>& asked, bool shares) const;
  void begun(std::size_t server);
  /// `seconds`: that a transfer of `bytes` took. `failure`: why it did not end well; empty: it did.
  void ended(std::size_t server, std::uint64_t bytes, double seconds, const std::string& failure);
  /// What came from this URL was wrong. Is there another server, of which nothing bad is known?
  bool blame(std::string_view url);
  /// So many bytes came.
  void took(std::uint64_t bytes);
  /// When the next transfer may begin, so that the rate is kept.
  std::chrono::steady_clock::time_point next_start() const;
  /// Bytes a second that each transfer under way may take; 0: no limit.
  std::uint64_t share_of_rate() const;

  /// What is known of one.
  struct Known {
    std::string url;
    std::uint64_t bytes = 0;
    double rate = 0;        // bytes a second, of transfers that were long enough to tell; 0: not known
    unsigned failures = 0;  // in a row
    std::string failure;    // the last one; empty: none in this run
    bool answered = false;  // well, at least once in this run
  };
  std::vector<Known> known() const;

 private:
  struct Server : Known {
    unsigned active = 0;
  };
  double weight(const Server& server) const;

  std::string name_;
  settings::Access access_;
  mutable std::mutex mutex_;
  std::vector<Server> servers_;
  std::chrono::steady_clock::time_point paid_until_{};  // what came would have taken until then at the allowed rate
};

}  // namespace hambrel::repo
