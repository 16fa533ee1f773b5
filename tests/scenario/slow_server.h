// A web server whose test decides when each piece of a package file is sent.
#pragma once

#include <httplib.h>

#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "support/program.h"

namespace hambrel::test {

inline constexpr std::size_t kMiB = 1 << 20;

/// `count` files of so many bytes that nothing makes smaller.
inline std::map<std::string, std::string> tiles(const std::string& name, int count, std::size_t size = kMiB) {
  std::mt19937_64 random(std::hash<std::string>()(name));
  std::map<std::string, std::string> files;
  for (int i = 0; i < count; ++i) {
    std::string& content = files["usr/share/" + name + "/" + std::to_string(i)];
    while (content.size() < size) {
      const std::uint64_t word = random();
      content.append(reinterpret_cast<const char*>(&word), 8);
    }
  }
  return files;
}

/// Serves a directory a piece at a time; `gate` is asked before each piece of a package file and may wait there. False
/// cuts the connection.
class SlowServer {
 public:
  explicit SlowServer(const fs::path& directory) {
    server_.Get(".*", [this, directory](const httplib::Request& asked, httplib::Response& answer) {
      auto content = std::make_shared<std::string>(read_file(directory / asked.path.substr(1)));
      if (content->empty()) return static_cast<void>(answer.status = 404);
      const std::string path = asked.path;
      if (path.starts_with("/packages")) {
        const std::lock_guard lock(mutex_);
        asked_.push_back(asked.get_header_value("Range"));
      }
      answer.set_content_provider(
          content->size(), "application/octet-stream",
          [this, content, path](std::size_t offset, std::size_t length, httplib::DataSink& sink) {
            const std::size_t size = std::min<std::size_t>(length, 64 << 10);
            if (path.starts_with("/packages") && !gate(path, offset)) return false;
            if (path.starts_with("/packages")) sent_ += size;
            return sink.write(content->data() + offset, size);
          });
    });
    port_ = server_.bind_to_any_port("127.0.0.1");
    thread_ = std::jthread([this] { server_.listen_after_bind(); });
    while (!server_.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ~SlowServer() { server_.stop(); }
  std::string url() const { return "http://127.0.0.1:" + std::to_string(port_); }
  /// The ranges that were asked of packages, "" for a whole one.
  std::vector<std::string> asked() {
    const std::lock_guard lock(mutex_);
    return std::exchange(asked_, {});
  }
  /// Bytes of packages that were sent since this was asked last.
  std::size_t sent() { return sent_.exchange(0); }
  std::function<bool(const std::string& path, std::size_t offset)> gate = [](auto&, auto) { return true; };

 private:
  httplib::Server server_;
  int port_ = 0;
  std::mutex mutex_;
  std::vector<std::string> asked_;
  std::atomic<std::size_t> sent_ = 0;
  std::jthread thread_;
};

}  // namespace hambrel::test
