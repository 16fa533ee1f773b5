// hambrel-serve DIR ADDRESS PORT [quiet]: what `hambrel serve` runs. A program of its own, so that the one that works
// as root on systems holds no server, and need not load one at each start.
//
// It serves the regular files below DIR, as they are when they are asked for, and nothing else: no listings, no links
// out of DIR, no writing. Ranges and conditional requests are answered (RFC 9110).
#include <fmt/format.h>
#include <httplib.h>

#include <algorithm>
#include <array>
#include <csignal>
#include <cstdio>
#include <memory>
#include <thread>

#include "base/error.h"
#include "base/text.h"
#include "os/file_system.h"
#include "os/host.h"

namespace {

using namespace hambrel;

constexpr std::size_t kConnections = 256;  // at the same time; further ones wait
constexpr std::size_t kPiece = 256 << 10U;

/// A file's version as clients give it back. Content that changes within one clock tick and keeps its size is the
/// only one that it can miss.
std::string tag_of(const os::FileInfo& info) {
  return fmt::format("\"{:x}-{:x}-{:x}-{:x}\"", info.inode, info.size, info.mtime_seconds, info.mtime_nanoseconds);
}

/// RFC 9110, section 13.1.2: any of the tags in the list, or "*".
bool names_tag(std::string_view list, std::string_view tag) {
  for (std::string_view one : split(list, ',')) {
    one = trim(one);
    if (one.starts_with("W/")) one.remove_prefix(2);
    if (one == "*" || one == tag) return true;
  }
  return false;
}

class DirectoryServer {
 public:
  DirectoryServer(const std::string& directory, bool quiet) : files_(os::open_file_system(directory)), quiet_(quiet) {
    server_.new_task_queue = [] { return new httplib::ThreadPool(kConnections); };
    server_.set_keep_alive_max_count(100'000);
    server_.set_payload_max_length(0);
    server_.set_tcp_nodelay(true);
    server_.set_socket_options([](socket_t socket) {  // the library's own would let two servers share a port
      const int yes = 1;
      ::setsockopt(socket, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    });
    server_.Get(".*",
                [this](const httplib::Request& request, httplib::Response& response) { answer(request, response); });
    if (!quiet_)
      server_.set_logger([](const httplib::Request& request, const httplib::Response& response) {
        const std::string line =
            fmt::format("{} {} {} {}\n", request.remote_addr, request.method, printable(request.path), response.status);
        std::fputs(line.c_str(), stdout);
        std::fflush(stdout);
      });
  }

  /// The port that it listens on. Throws Error{Io} where that can't be had.
  int bind(const std::string& address, int port) {
    int bound = -1;
    if (port == 0)
      bound = server_.bind_to_any_port(address);
    else if (server_.bind_to_port(address, port))
      bound = port;
    if (bound < 0)
      throw Error(ErrorCode::Io, "cannot listen on this address and port", fmt::format("{}:{}", address, port),
                  "another program may be using the port: choose one with --port N");
    return bound;
  }
  void run() { server_.listen_after_bind(); }
  void stop() { server_.stop(); }

 private:
  void answer(const httplib::Request& request, httplib::Response& response) {
    const std::string path =
        request.path.substr(std::min<std::size_t>(request.path.find_first_not_of('/'), request.path.size()));
    std::shared_ptr<os::ReadableFile> file;
    std::optional<os::FileInfo> info;
    try {
      file = files_->open_itself(path);
      info = file->info();
    } catch (const Error&) {  // whatever it is: there is no such file for those who ask
    }
    if (!info) {
      response.status = 404;
      return response.set_content("not found\n", "text/plain");
    }
    const std::string tag = tag_of(*info);
    response.set_header("ETag", tag);
    response.set_header("Cache-Control", "no-cache");
    if (request.has_header("If-None-Match") && names_tag(request.get_header_value("If-None-Match"), tag)) {
      response.status = 304;
      return;
    }
    // a range of another version than the client has the rest of would not fit
    if (request.has_header("If-Range") && request.get_header_value("If-Range") != tag)
      const_cast<httplib::Request&>(request).ranges.clear();
    const std::string type = path.ends_with(".json") ? "application/json" : "application/octet-stream";
    if (info->size == 0) return response.set_content("", type);
    response.set_content_provider(info->size, type,
                                  [file](std::size_t offset, std::size_t length, httplib::DataSink& sink) {
                                    std::vector<std::byte> piece(std::min(length, kPiece));
                                    const std::size_t read = file->read_at(offset, piece);
                                    return read > 0 && sink.write(reinterpret_cast<const char*>(piece.data()), read);
                                  });
  }

  std::unique_ptr<os::FileSystem> files_;
  bool quiet_;
  httplib::Server server_;
};

int serve(const std::string& directory, const std::string& address, const std::string& port_text, bool quiet) {
  const auto port = parse_number(port_text);
  if (!port || *port > 65535)
    throw Error(ErrorCode::Usage, fmt::format("--port {}: must be a number from 0 to 65535", printable(port_text)));
  sigset_t ends;
  ::sigemptyset(&ends);
  for (const int signal : {SIGINT, SIGTERM, SIGHUP}) ::sigaddset(&ends, signal);
  ::pthread_sigmask(SIG_BLOCK, &ends, nullptr);  // for all threads: the one that waits for them gets them
  std::signal(SIGPIPE, SIG_IGN);
  DirectoryServer server(directory, quiet);
  const int bound = server.bind(address, static_cast<int>(*port));
  fmt::print("Serving {} at http://{}:{} (Ctrl-C ends it)\n", printable(directory),
             address.find(':') == std::string::npos ? address : "[" + address + "]", bound);
  std::fflush(stdout);
  std::jthread running([&] { server.run(); });
  int signal = 0;
  ::sigwait(&ends, &signal);
  server.stop();
  return 0;
}

}  // namespace

int main(int count, char** words) {
  try {
    if (count < 4) throw Error(ErrorCode::Usage, "usage: hambrel serve DIR");
    return serve(words[1], words[2], words[3], count > 4);
  } catch (...) {
    const Error problem = current_error();
    fmt::print(stderr, "Failed: {}{}{}\n", printable(problem.where()), problem.where().empty() ? "" : ": ",
               printable(problem.problem()));
    if (!problem.hint().empty()) fmt::print(stderr, "  -> {}\n", printable(problem.hint()));
    return problem.code() == ErrorCode::Usage ? 2 : 1;
  }
}
