#include "repo/exchange.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace hambrel::repo {

namespace {

constexpr unsigned kMostRedirects = 5;
constexpr unsigned kLongestWait = 10;  // seconds that a server may ask for
// RFC 9110, section 15
constexpr long kWhole = 200, kNotModified = 304, kClients = 400, kUnauthorized = 401, kForbidden = 403, kNotFound = 404,
               kProxyAsks = 407, kTimeout = 408, kGone = 410, kNoSuchRange = 416, kTooMany = 429, kServers = 500;

const char* const kAgain = "run `hambrel refresh`; if this persists, tell the repository's maintainer";

/// "https://host:port"
std::string_view origin(std::string_view url) {
  const auto scheme = url.find("://");
  return scheme == std::string_view::npos ? url : url.substr(0, url.find('/', scheme + 3));
}

/// The value of "name: value", if the line is one of this name.
std::optional<std::string> value_of(std::string_view line, std::string_view name) {
  if (line.size() <= name.size() || lower(line.substr(0, name.size())) != name || line[name.size()] != ':')
    return std::nullopt;
  return std::string(trim(line.substr(name.size() + 1)));
}

/// Does the same request to the same server make sense after this?
bool may_pass(CURLcode code) {
  switch (code) {
    case CURLE_PARTIAL_FILE:
    case CURLE_GOT_NOTHING:
    case CURLE_RECV_ERROR:
    case CURLE_SEND_ERROR:
    case CURLE_HTTP2:
    case CURLE_HTTP2_STREAM:
    case CURLE_WEIRD_SERVER_REPLY: return true;
    default: return false;
  }
}

}  // namespace

Exchange::Exchange(Task task, const Request& request, const Servers& servers, Clock::time_point began)
    : task_(std::move(task)), request_(request), servers_(servers), began_(began) {
  handle_ = curl_library().easy_init();
  if (handle_ == nullptr) throw Error(ErrorCode::Internal, "libcurl gives no handle", shown_url(task_.url));
  set_up();
}

Exchange::~Exchange() {
  curl_library().easy_cleanup(handle_);
  curl_library().slist_free_all(headers_);
}

void Exchange::set_up() {
  const auto set = curl_library().easy_setopt;
  const settings::Access& access = servers_.access();
  set(handle_, CURLOPT_URL, task_.url.c_str());
  set(handle_, CURLOPT_PROTOCOLS_STR, "http,https,file");
  set(handle_, CURLOPT_FAILONERROR, 1L);
  set(handle_, CURLOPT_NOSIGNAL, 1L);
  set(handle_, CURLOPT_PIPEWAIT, 1L);  // with HTTP/2 one connection carries them all
  set(handle_, CURLOPT_CONNECTTIMEOUT, static_cast<long>(access.timeout));
  set(handle_, CURLOPT_USERAGENT, "hambrel/" HAMBREL_VERSION);
  set(handle_, CURLOPT_ERRORBUFFER, message_);
  set(handle_, CURLOPT_WRITEFUNCTION, receive);
  set(handle_, CURLOPT_WRITEDATA, this);
  set(handle_, CURLOPT_HEADERFUNCTION, receive_header);
  set(handle_, CURLOPT_HEADERDATA, this);
  // small where the rate is limited, so that it comes evenly
  set(handle_, CURLOPT_BUFFERSIZE, access.rate == 0 ? 256L << 10 : 16L << 10);
  if (task_.range)
    set(handle_, CURLOPT_RANGE,
        fmt::format("{}-{}", task_.range->first, task_.range->first + task_.range->second - 1).c_str());
  if (access.proxy == "none")
    set(handle_, CURLOPT_PROXY, "");
  else if (!access.proxy.empty())
    set(handle_, CURLOPT_PROXY, access.proxy.c_str());
  if (!access.credentials.proxy_user.empty()) {
    set(handle_, CURLOPT_PROXYUSERNAME, access.credentials.proxy_user.c_str());
    set(handle_, CURLOPT_PROXYPASSWORD, access.credentials.proxy_password.c_str());
    set(handle_, CURLOPT_PROXYAUTH, CURLAUTH_ANY);
  }
  if (!access.authority.empty()) {
    curl_blob certificates{const_cast<char*>(access.authority.data()), access.authority.size(), CURL_BLOB_COPY};
    set(handle_, CURLOPT_CAINFO_BLOB, &certificates);
  }
  set_login(true);
  set_headers(true);
}

void Exchange::set_login(bool with_login) {
  const auto set = curl_library().easy_setopt;
  const settings::Credentials& login = servers_.access().credentials;
  const bool has_user = with_login && !login.user.empty(), has_token = with_login && !login.token.empty();
  set(handle_, CURLOPT_USERNAME, has_user ? login.user.c_str() : nullptr);
  set(handle_, CURLOPT_PASSWORD, has_user ? login.password.c_str() : nullptr);
  set(handle_, CURLOPT_XOAUTH2_BEARER, has_token ? login.token.c_str() : nullptr);
  // over a connection that anybody may read, a password goes out only where the server asks for it
  const bool is_safe = task_.url.starts_with("https://");
  set(handle_, CURLOPT_HTTPAUTH, has_token ? CURLAUTH_BEARER : (is_safe ? CURLAUTH_BASIC : CURLAUTH_ANY));
}

void Exchange::set_headers(bool with_headers) {
  curl_library().slist_free_all(headers_);
  headers_ = nullptr;
  const auto add = [&](const std::string& line) {
    curl_slist* const longer = curl_library().slist_append(headers_, line.c_str());
    if (longer == nullptr) throw Error(ErrorCode::Internal, "libcurl has no memory for a header");
    headers_ = longer;
  };
  if (with_headers)
    for (const std::string& header : servers_.access().headers) add(header);
  if (task_.is_conditional && !request_.if_etag.empty()) add("If-None-Match: " + request_.if_etag);
  if (task_.is_conditional && !request_.if_modified.empty()) add("If-Modified-Since: " + request_.if_modified);
  if (!task_.if_range.empty()) add("If-Range: " + task_.if_range);
  curl_library().easy_setopt(handle_, CURLOPT_HTTPHEADER, headers_);
}

void Exchange::go_on() {
  paused_ = false;
  curl_library().easy_pause(handle_, CURLPAUSE_CONT);  // this may take what waits, at once
}

std::optional<std::string> Exchange::too_slow(Clock::time_point now) {
  const Pace& pace = request_.pace;
  if (pace.most_seconds > 0 && now - began_ > std::chrono::seconds(pace.most_seconds))
    return fmt::format("not complete after {} seconds", pace.most_seconds);
  if (now - window_began_ < std::chrono::seconds(pace.window)) return std::nullopt;
  const std::uint64_t came = arrived_ - window_arrived_;
  const std::uint64_t share = servers_.share_of_rate();  // who asks for little gets little
  const std::uint64_t least = share == 0 ? pace.least_rate : std::min(pace.least_rate, share / 2);
  if (came < least * pace.window) return fmt::format("too slow: {} bytes in {} seconds", came, pace.window);
  window_began_ = now;
  window_arrived_ = arrived_;
  return std::nullopt;
}

double Exchange::seconds() const { return std::chrono::duration<double>(Clock::now() - started_).count(); }

double Exchange::seconds_to_first_byte() const {
  return std::chrono::duration<double>(first_byte_.value_or(Clock::now()) - started_).count();
}

/// 0 where the protocol has none.
long Exchange::status() const {
  long status = 0;
  curl_library().easy_getinfo(handle_, CURLINFO_RESPONSE_CODE, &status);
  return status;
}

/// What a proxy said that was asked for a tunnel, where that is not one; else 0.
long Exchange::tunnel_refused() const {
  long answer = 0;
  curl_library().easy_getinfo(handle_, CURLINFO_HTTP_CONNECTCODE, &answer);
  return answer >= kClients ? answer : 0;
}

/// Returns the number of bytes it was given; any other ends the transfer.
std::size_t Exchange::receive(char* data, std::size_t, std::size_t size, void* context) {
  return static_cast<Exchange*>(context)->take(std::string_view(data, size));
}

std::size_t Exchange::take(std::string_view data) {
  if (servers_.next_start() > Clock::now()) {
    paused_ = true;
    return CURL_WRITEFUNC_PAUSE;  // libcurl keeps what came
  }
  const std::size_t size = data.size();
  if (!first_byte_) first_byte_ = Clock::now();
  arrived_ += size;
  const long status = this->status();
  if (status >= 300 && status < 400) return size;  // the text that comes with a redirect
  // RFC 9110, section 14.2: a server may ignore that a range was asked for
  if (!answered_ && task_.range && status == kWhole) no_ranges_ = true;
  answered_ = true;
  changed_ =
      (no_ranges_ && !task_.if_range.empty()) || (task_.whole != 0 && whole_size_.value_or(task_.whole) != task_.whole);
  if (changed_) return 0;
  if (no_ranges_ && task_.ends_without_range) return 0;
  const std::uint64_t before = no_ranges_ ? task_.range->first : 0;
  const std::uint64_t over = std::min<std::uint64_t>(data.size(), before - passed_);
  passed_ += over;
  data.remove_prefix(over);
  if (no_ranges_) data = data.substr(0, task_.range->second - received_);
  received_ += data.size();
  if (received_ > task_.limit) {
    too_much_ = true;
    return 0;
  }
  try {
    if (!data.empty()) task_.sink(data);
  } catch (...) {
    thrown_ = std::current_exception();  // told to the caller when the transfer is taken off
    return 0;
  }
  complete_ = no_ranges_ && received_ == task_.range->second;
  return complete_ ? 0 : size;
}

std::size_t Exchange::receive_header(char* data, std::size_t, std::size_t size, void* context) {
  auto& self = *static_cast<Exchange*>(context);
  const std::string_view line(data, size);
  // "Content-Range: bytes 0-0/4711" (RFC 9110, section 14.4); whatever else a server says there is no size
  if (const auto range = value_of(line, "content-range"))
    self.whole_size_ = parse_number(std::string_view(*range).substr(range->find('/') + 1));
  else if (const auto etag = value_of(line, "etag"))
    self.etag_ = etag->size() <= 200 && is_plain(*etag) ? *etag : "";
  else if (const auto modified = value_of(line, "last-modified"))
    self.modified_ = modified->size() <= 60 && is_plain(*modified) ? *modified : "";
  else if (const auto wait = value_of(line, "retry-after"))
    self.wait_ = static_cast<unsigned>(std::min<std::uint64_t>(parse_number(*wait).value_or(0), kLongestWait));
  return size;
}

bool Exchange::is_redirect(CURLcode code) const {
  const long status = code == CURLE_OK ? this->status() : 0;
  return status >= 300 && status < 400 && status != kNotModified;
}

bool Exchange::follow(CURLcode code) {
  if (!is_redirect(code)) return false;
  char* to = nullptr;
  curl_library().easy_getinfo(handle_, CURLINFO_REDIRECT_URL, &to);
  if (to == nullptr) return false;
  const std::string target = to;
  const bool was_safe = task_.url.starts_with("https://");
  const bool is_known = target.starts_with("https://") || (!was_safe && target.starts_with("http://"));
  if (!is_known || ++redirects_ > kMostRedirects) {
    bad_redirect_ = is_known ? fmt::format("redirects more than {} times", kMostRedirects)
                             : fmt::format("the server redirects to an address Hambrel does not follow: {}",
                                           was_safe ? "from https only to https" : "only to http and https");
    return false;
  }
  const bool is_same = origin(target) == origin(task_.url);
  task_.url = target;
  curl_library().easy_setopt(handle_, CURLOPT_URL, task_.url.c_str());
  if (!is_same) {
    set_login(false);
    set_headers(false);
  }
  whole_size_.reset();
  etag_.clear();
  modified_.clear();
  return true;
}

Exchange::End Exchange::refused(long status, const std::string& url) const {
  End end;
  std::string hint = "try again later";
  const bool by_proxy = status == kProxyAsks || tunnel_refused() != 0;
  end.absent = !by_proxy && (status == kNotFound || status == kGone);
  end.in_a_moment = status == kTimeout || status == kTooMany || status >= kServers;
  end.wait = wait_;
  if (status == kNotFound) hint = "check the URL; if it is right, the repository is incomplete";
  if ((status == kUnauthorized || status == kForbidden) && !servers_.name().empty()) {
    const settings::Access& access = servers_.access();
    const std::string file = fmt::format("/etc/hambrel/repos/{}.credentials", servers_.name());
    hint = access.credentials.any() ? fmt::format("check the user and the password in {}", file)
                                    : fmt::format("put user = \"...\" and password = \"...\" into {}, mode 0600", file);
    if (!access.unread.empty()) hint = fmt::format("{} can only be read by its owner: run this as root", access.unread);
  }
  if (status == kProxyAsks)
    hint = fmt::format("put proxy_user and proxy_password into /etc/hambrel/repos/{}.credentials, mode 0600",
                       servers_.name().empty() ? "NAME" : servers_.name());
  if (task_.range && status == kNoSuchRange)
    end.problem = Error(ErrorCode::Untrusted, "the file on the server is shorter than expected", url, kAgain);
  else
    end.problem =
        Error(ErrorCode::Network, fmt::format("the {} answered with status {}", by_proxy ? "proxy" : "server", status),
              url, hint);
  return end;
}

Error Exchange::failed(CURLcode code, const std::string& url) const {
  std::string why = message_[0] != '\0' ? message_ : curl_library().easy_strerror(code);
  if (code == CURLE_COULDNT_CONNECT) why = why.substr(0, why.find(" after "));  // it says the same twice
  const bool is_tls = code == CURLE_PEER_FAILED_VERIFICATION || code == CURLE_SSL_CACERT_BADFILE;
  return {ErrorCode::Network, fmt::format("cannot be fetched: {}", printable(shown_url(why))), url,
          is_tls && !servers_.name().empty()
              ? fmt::format("check the clock of this machine; the certificates that vouch for a server of your own: "
                            "authority = \"FILE\" in /etc/hambrel/repos/{}.toml",
                            servers_.name())
              : "check the URL and the network"};
}

Exchange::End Exchange::end(CURLcode code) const {
  const std::string url = shown_url(task_.url);
  End end;
  end.no_ranges = no_ranges_;
  const auto with = [&](ErrorCode kind, const std::string& problem, const std::string& hint) {
    end.problem = Error(kind, problem, url, hint);
    return end;
  };
  if (thrown_) {
    try {
      std::rethrow_exception(thrown_);
    } catch (...) {
      end.problem = current_error();
      end.of_receiver = true;
      return end;
    }
  }
  if (complete_) return end;
  if (changed_) {
    end.changed = true;
    return with(ErrorCode::Network, "the file changed while it was being fetched", "try again");
  }
  if (no_ranges_ && task_.ends_without_range) {
    end.of_receiver = true;  // it wants no other answer
    return with(ErrorCode::Network, "the server only sends whole files", "fetch the whole file");
  }
  if (too_much_)
    return with(ErrorCode::Untrusted, fmt::format("more than the expected {} bytes arrived", task_.limit), kAgain);
  if (!bad_redirect_.empty())
    return with(bad_redirect_.starts_with("redirects") ? ErrorCode::Network : ErrorCode::Untrusted, bad_redirect_,
                "tell the repository's maintainer");
  if (const long answer = code == CURLE_OK ? 0 : tunnel_refused(); answer != 0) return refused(answer, url);
  if (code == CURLE_HTTP_RETURNED_ERROR) return refused(status(), url);
  if (is_redirect(code)) return refused(status(), url);
  if (code == CURLE_FILE_COULDNT_READ_FILE) end.absent = true;
  if (code != CURLE_OK) {
    end.in_a_moment = may_pass(code);
    end.problem = failed(code, url);
    return end;
  }
  if (status() == kNotModified) {
    end.unchanged = true;
    return end;
  }
  if (task_.range && received_ != task_.range->second)
    return with(ErrorCode::Network, "the server did not send the requested range", "try again later");
  return end;
}

}  // namespace hambrel::repo
