#include "repo/transfer.h"

#include <fmt/format.h>

#include <chrono>
#include <exception>
#include <memory>

#include "base/text.h"
#include "repo/curl_library.h"

namespace hambrel::repo {

namespace {

using Clock = std::chrono::steady_clock;

constexpr long kConnectSeconds = 10, kMostRedirects = 5;

/// One transfer under way.
struct Running {
  Request* request = nullptr;
  CURL* handle = nullptr;
  std::uint64_t received = 0;  // of what was asked for
  std::uint64_t passed = 0;    // of what the server sent besides, as it knows no ranges
  std::uint64_t arrived = 0;   // both
  std::uint64_t* total = nullptr;
  bool answered = false, too_much = false, complete = false;
  Clock::time_point began = Clock::now(), window_began = began;
  std::uint64_t window_arrived = 0;
  std::exception_ptr thrown;  // by the sink: it must not fly through C code
  char message[CURL_ERROR_SIZE] = {};

  ~Running() { curl_library().easy_cleanup(handle); }

  /// Bytes before the range that are to be passed over; nothing where the server sends just the range.
  std::uint64_t before_range() const { return request->no_ranges ? request->range->first : 0; }
  /// Why it is given up, if it is.
  std::optional<std::string> too_slow(Clock::time_point now) {
    const Pace& pace = request->pace;
    if (pace.most_seconds > 0 && now - began > std::chrono::seconds(pace.most_seconds))
      return fmt::format("not complete after {} seconds", pace.most_seconds);
    if (now - window_began < std::chrono::seconds(pace.window)) return std::nullopt;
    const std::uint64_t came = arrived - window_arrived;
    if (came < pace.least_rate * pace.window) return fmt::format("too slow: {} bytes in {} seconds", came, pace.window);
    window_began = now;
    window_arrived = arrived;
    return std::nullopt;
  }
};

/// 0 where the protocol has none.
long status_of(CURL* handle) {
  long status = 0;
  curl_library().easy_getinfo(handle, CURLINFO_RESPONSE_CODE, &status);
  return status;
}

/// Returns the number of bytes it was given; any other ends the transfer.
std::size_t receive(char* data, std::size_t, std::size_t size, void* context) {
  constexpr long kWhole = 200;  // RFC 9110, section 14.2: a server may ignore that a range was asked for
  auto& running = *static_cast<Running*>(context);
  Request& request = *running.request;
  running.arrived += size;
  if (!running.answered && request.range && status_of(running.handle) == kWhole) request.no_ranges = true;
  running.answered = true;
  if (request.no_ranges && request.only_range) return 0;
  std::string_view rest(data, size);
  const std::uint64_t over = std::min<std::uint64_t>(rest.size(), running.before_range() - running.passed);
  running.passed += over;
  rest.remove_prefix(over);
  if (request.no_ranges) rest = rest.substr(0, request.range->second - running.received);
  running.received += rest.size();
  if (running.received > request.limit) {
    running.too_much = true;
    return 0;
  }
  *running.total += rest.size();
  try {
    if (!rest.empty()) request.sink(rest);
  } catch (...) {
    running.thrown = std::current_exception();  // told to the caller when the transfer is taken off
    return 0;
  }
  running.complete = request.no_ranges && running.received == request.range->second;
  return running.complete ? 0 : size;
}

/// "Content-Range: bytes 0-0/4711" (RFC 9110, section 14.4); whatever else a server says there is no size.
std::size_t receive_header(char* data, std::size_t, std::size_t size, void* context) {
  const std::string header = lower(trim(std::string_view(data, size)));
  if (header.starts_with("content-range:"))
    static_cast<Running*>(context)->request->whole_size = parse_number(header.substr(header.find('/') + 1));
  return size;
}

std::unique_ptr<Running> start(Request& request, std::uint64_t& total) {
  auto running = std::make_unique<Running>();
  running->request = &request;
  running->total = &total;
  running->handle = curl_library().easy_init();
  if (running->handle == nullptr) throw Error(ErrorCode::Internal, "libcurl gives no handle", request.url);
  CURL* const handle = running->handle;
  curl_library().easy_setopt(handle, CURLOPT_URL, request.url.c_str());
  curl_library().easy_setopt(handle, CURLOPT_PROTOCOLS_STR, "http,https,file");
  // Where it began with https it stays with https.
  curl_library().easy_setopt(handle, CURLOPT_REDIR_PROTOCOLS_STR,
                             request.url.starts_with("http://") ? "http,https" : "https");
  curl_library().easy_setopt(handle, CURLOPT_FOLLOWLOCATION, 1L);
  curl_library().easy_setopt(handle, CURLOPT_MAXREDIRS, kMostRedirects);
  curl_library().easy_setopt(handle, CURLOPT_FAILONERROR, 1L);
  curl_library().easy_setopt(handle, CURLOPT_NOSIGNAL, 1L);
  curl_library().easy_setopt(handle, CURLOPT_CONNECTTIMEOUT, kConnectSeconds);
  curl_library().easy_setopt(handle, CURLOPT_USERAGENT, "hambrel/" HAMBREL_VERSION);
  curl_library().easy_setopt(handle, CURLOPT_ERRORBUFFER, running->message);
  curl_library().easy_setopt(handle, CURLOPT_WRITEFUNCTION, receive);
  curl_library().easy_setopt(handle, CURLOPT_WRITEDATA, running.get());
  curl_library().easy_setopt(handle, CURLOPT_HEADERFUNCTION, receive_header);
  curl_library().easy_setopt(handle, CURLOPT_HEADERDATA, running.get());
  if (request.range)
    curl_library().easy_setopt(
        handle, CURLOPT_RANGE,
        fmt::format("{}-{}", request.range->first, request.range->first + request.range->second - 1).c_str());
  return running;
}

bool is_absent(const Running& running, CURLcode code) {
  if (code == CURLE_FILE_COULDNT_READ_FILE) return true;
  const long status = code == CURLE_HTTP_RETURNED_ERROR ? status_of(running.handle) : 0;
  return status == 404 || status == 410;  // RFC 9110: not found, gone
}

std::optional<Error> outcome(const Running& running, CURLcode code) {
  const Request& request = *running.request;
  const std::string url = shown_url(request.url);
  const char* const again = "run `hambrel refresh`; if this persists, tell the repository's maintainer";
  if (running.thrown) {
    try {
      std::rethrow_exception(running.thrown);
    } catch (...) {
      return current_error();
    }
  }
  if (running.complete) return std::nullopt;
  if (request.no_ranges && request.only_range)
    return Error(ErrorCode::Network, "the server only sends whole files", url, "fetch the whole file");
  if (running.too_much)
    return Error(ErrorCode::Untrusted, fmt::format("more than the expected {} bytes arrived", request.limit), url,
                 again);
  const long status = status_of(running.handle);
  if (code == CURLE_HTTP_RETURNED_ERROR && request.range && status == 416)  // RFC 9110, section 15.5.17
    return Error(ErrorCode::Untrusted, "the file on the server is shorter than expected", url, again);
  if (code == CURLE_HTTP_RETURNED_ERROR)
    return Error(ErrorCode::Network, fmt::format("the server answered with status {}", status), url,
                 status == 404 ? "check the URL; if it is right, the repository is incomplete" : "try again later");
  if (code == CURLE_UNSUPPORTED_PROTOCOL && running.request->url.starts_with("http"))
    return Error(ErrorCode::Untrusted,
                 running.request->url.starts_with("https")
                     ? "the server redirects to an address Hambrel does not follow: from https only to https"
                     : "the server redirects to an address Hambrel does not follow: only to http and https",
                 url, "tell the repository's maintainer");
  if (code != CURLE_OK) {
    const std::string why = running.message[0] != '\0' ? running.message : curl_library().easy_strerror(code);
    return Error(ErrorCode::Network, fmt::format("cannot be fetched: {}", shown_url(why)), url,
                 "check the URL and the network");
  }
  if (request.range && running.received != request.range->second)
    return Error(ErrorCode::Network, "the server did not send the requested range", url, "try again later");
  return std::nullopt;
}

}  // namespace

void fetch_all(std::vector<Request>& requests, unsigned parallel, Observer& observer,
               const std::function<bool()>& stop) {
  if (requests.empty()) return;
  const CurlLibrary& curl = curl_library();
  const std::unique_ptr<CURLM, CURLMcode (*)(CURLM*)> multi(curl.multi_init(), curl.multi_cleanup);
  if (!multi) throw Error(ErrorCode::Internal, "libcurl does not start");
  std::vector<std::unique_ptr<Running>> running;
  std::uint64_t total = 0;
  std::size_t next = 0;
  const auto end = [](Request& request, std::optional<Error> problem) {
    request.problem = std::move(problem);
    if (request.ended) request.ended(request.problem);
  };
  while (next < requests.size() || !running.empty()) {
    if (stop()) {
      const Error stopped(ErrorCode::Declined, "interrupted");
      for (const auto& one : running) {
        curl.multi_remove_handle(multi.get(), one->handle);
        end(*one->request, stopped);
      }
      while (next < requests.size()) end(requests[next++], stopped);
      return;
    }
    while (next < requests.size() && running.size() < std::max(1U, parallel)) {
      running.push_back(start(requests[next++], total));
      curl.multi_add_handle(multi.get(), running.back()->handle);
    }
    int active = 0;
    curl.multi_perform(multi.get(), &active);
    int left = 0;
    while (const CURLMsg* message = curl.multi_info_read(multi.get(), &left)) {
      if (message->msg != CURLMSG_DONE) continue;
      const auto done = std::find_if(running.begin(), running.end(),
                                     [&](const auto& one) { return one->handle == message->easy_handle; });
      (*done)->request->absent = is_absent(**done, message->data.result);
      end(*(*done)->request, outcome(**done, message->data.result));
      curl.multi_remove_handle(multi.get(), (*done)->handle);
      running.erase(done);
    }
    std::erase_if(running, [&](const auto& one) {
      const auto slow = one->too_slow(Clock::now());
      if (!slow) return false;
      curl.multi_remove_handle(multi.get(), one->handle);
      end(*one->request, Error(ErrorCode::Network, *slow, shown_url(one->request->url),
                               "try again later, or allow less: [fetch] in hambrel.toml"));
      return true;
    });
    observer.progress(total);
    if (!running.empty()) curl.multi_poll(multi.get(), nullptr, 0, 200, nullptr);
  }
}

std::string fetch_text(const std::string& url, std::uint64_t limit,
                       std::optional<std::pair<std::uint64_t, std::uint64_t>> range, const Pace& pace) {
  std::string text;
  std::vector<Request> requests(1);
  requests[0].url = url;
  requests[0].limit = limit;
  requests[0].range = range;
  requests[0].pace = pace;
  requests[0].sink = [&](std::string_view data) { text += data; };
  Observer silent;
  fetch_all(requests, 1, silent);
  if (requests[0].problem) throw *requests[0].problem;
  return text;
}

std::unique_ptr<os::ReadableFile> fetch_file(const std::string& url, std::uint64_t limit, const Pace& pace,
                                             Observer& observer) {
  auto file = os::open_scratch();
  std::uint64_t size = 0;
  std::vector<Request> requests(1);
  requests[0].url = url;
  requests[0].limit = limit;
  requests[0].pace = pace;
  requests[0].sink = [&](std::string_view data) {
    file->write_at(size, std::as_bytes(std::span(data)));
    size += data.size();
  };
  fetch_all(requests, 1, observer);
  if (requests[0].problem) throw *requests[0].problem;
  return file;
}

namespace {

class UrlFile final : public os::ReadableFile {
 public:
  UrlFile(std::string url, std::uint64_t size) : url_(std::move(url)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::size_t read_at(std::uint64_t offset, std::span<std::byte> into) override {
    const std::uint64_t size = offset >= size_ ? 0 : std::min<std::uint64_t>(into.size(), size_ - offset);
    if (size == 0) return 0;
    const std::string text = fetch_text(url_, size, std::pair(offset, size));
    std::copy(text.begin(), text.end(), reinterpret_cast<char*>(into.data()));
    return text.size();
  }

 private:
  std::string url_;
  std::uint64_t size_;
};

}  // namespace

std::unique_ptr<os::ReadableFile> open_url(std::string url, std::uint64_t size) {
  return std::make_unique<UrlFile>(std::move(url), size);
}

std::unique_ptr<os::ReadableFile> open_url(const std::string& url, const Pace& pace) {
  std::vector<Request> requests(1);
  Request& first_byte = requests[0];
  first_byte.url = url;
  first_byte.limit = 1;
  first_byte.range = std::pair<std::uint64_t, std::uint64_t>(0, 1);
  first_byte.sink = [](std::string_view) {};
  first_byte.pace = pace;
  first_byte.only_range = true;
  Observer silent;
  fetch_all(requests, 1, silent);
  if (first_byte.no_ranges) return nullptr;
  if (first_byte.problem) throw *first_byte.problem;
  return first_byte.whole_size ? open_url(url, *first_byte.whole_size) : nullptr;
}

}  // namespace hambrel::repo
