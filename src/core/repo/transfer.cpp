#include "repo/transfer.h"

#include <fmt/format.h>

#include <deque>
#include <exception>
#include <memory>

#include "repo/curl_library.h"

namespace hambrel::repo {

namespace {

constexpr long kConnectSeconds = 10, kStallSeconds = 30, kMostRedirects = 5;

/// One transfer under way.
struct Running {
  Request* request = nullptr;
  CURL* handle = nullptr;
  std::uint64_t received = 0;
  std::uint64_t* total = nullptr;
  bool too_much = false;
  std::exception_ptr thrown;  // by the sink: it must not fly through C code
  char message[CURL_ERROR_SIZE] = {};

  ~Running() { curl_library().easy_cleanup(handle); }
};

std::size_t receive(char* data, std::size_t, std::size_t size, void* context) {
  auto& running = *static_cast<Running*>(context);
  running.received += size;
  if (running.received > running.request->limit) {
    running.too_much = true;
    return 0;
  }
  *running.total += size;
  try {
    running.request->sink(std::string_view(data, size));
  } catch (...) {
    running.thrown = std::current_exception();  // told to the caller when the transfer is taken off
    return 0;
  }
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
  curl_library().easy_setopt(handle, CURLOPT_REDIR_PROTOCOLS_STR, "http,https");
  curl_library().easy_setopt(handle, CURLOPT_FOLLOWLOCATION, 1L);
  curl_library().easy_setopt(handle, CURLOPT_MAXREDIRS, kMostRedirects);
  curl_library().easy_setopt(handle, CURLOPT_FAILONERROR, 1L);
  curl_library().easy_setopt(handle, CURLOPT_NOSIGNAL, 1L);
  curl_library().easy_setopt(handle, CURLOPT_CONNECTTIMEOUT, kConnectSeconds);
  curl_library().easy_setopt(handle, CURLOPT_LOW_SPEED_LIMIT, 1L);
  curl_library().easy_setopt(handle, CURLOPT_LOW_SPEED_TIME, kStallSeconds);
  curl_library().easy_setopt(handle, CURLOPT_USERAGENT, "hambrel/" HAMBREL_VERSION);
  curl_library().easy_setopt(handle, CURLOPT_ERRORBUFFER, running->message);
  curl_library().easy_setopt(handle, CURLOPT_WRITEFUNCTION, receive);
  curl_library().easy_setopt(handle, CURLOPT_WRITEDATA, running.get());
  if (request.range)
    curl_library().easy_setopt(
        handle, CURLOPT_RANGE,
        fmt::format("{}-{}", request.range->first, request.range->first + request.range->second - 1).c_str());
  return running;
}

std::optional<Error> outcome(const Running& running, CURLcode code) {
  const std::string& url = running.request->url;
  if (running.thrown) {
    try {
      std::rethrow_exception(running.thrown);
    } catch (const Error& problem) {
      return problem;
    }
  }
  if (running.too_much)
    return Error(ErrorCode::Untrusted, fmt::format("more than the expected {} bytes came", running.request->limit), url,
                 "run `hambrel refresh`; if it stays, tell who keeps the repository");
  long status = 0;
  curl_library().easy_getinfo(running.handle, CURLINFO_RESPONSE_CODE, &status);
  if (code == CURLE_HTTP_RETURNED_ERROR && running.request->range && status == 416)  // RFC 9110, section 15.5.17
    return Error(ErrorCode::Untrusted, "the file on the server is shorter than the one that was asked for", url,
                 "run `hambrel refresh`; if it stays, tell who keeps the repository");
  if (code == CURLE_HTTP_RETURNED_ERROR)
    return Error(ErrorCode::Network, fmt::format("the server answered with status {}", status), url,
                 status == 404 ? "check the URL; if it is right, the repository is incomplete" : "try again later");
  if (code != CURLE_OK) {
    const std::string why = running.message[0] != '\0' ? running.message : curl_library().easy_strerror(code);
    return Error(ErrorCode::Network, fmt::format("cannot be fetched: {}", why), url, "check the URL and the network");
  }
  if (running.request->range && running.received != running.request->range->second)
    return Error(ErrorCode::Network, "the server did not send the range that was asked for", url, "try again later");
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
      const Error stopped(ErrorCode::Declined, "stopped as you asked");
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
      end(*(*done)->request, outcome(**done, message->data.result));
      curl.multi_remove_handle(multi.get(), (*done)->handle);
      running.erase(done);
    }
    observer.progress(total);
    if (!running.empty()) curl.multi_poll(multi.get(), nullptr, 0, 200, nullptr);
  }
}

std::string fetch_text(const std::string& url, std::uint64_t limit,
                       std::optional<std::pair<std::uint64_t, std::uint64_t>> range) {
  std::string text;
  std::vector<Request> requests(1);
  requests[0] = {url, limit, range, [&](std::string_view data) { text += data; }, {}};
  Observer silent;
  fetch_all(requests, 1, silent);
  if (requests[0].problem) throw *requests[0].problem;
  return text;
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

}  // namespace hambrel::repo
