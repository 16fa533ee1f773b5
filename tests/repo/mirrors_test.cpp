// One file from several servers, some of which are dead, lag behind, break off or lie.
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <thread>

#include "repo/download.h"
#include "repo/download_queue.h"
#include "repo/transfer.h"
#include "support/program.h"

namespace hambrel::repo {

using testing::HasSubstr;

namespace {

using Answer = std::function<void(const httplib::Request&, httplib::Response&)>;

/// A server on a free port that answers everything in one way, and remembers what it was asked.
class Mirror {
 public:
  explicit Mirror(Answer answer) {
    server_.Get(".*", [this, answer = std::move(answer)](const httplib::Request& asked, httplib::Response& given) {
      {
        const std::lock_guard lock(mutex_);
        asked_.push_back(asked);
      }
      answer(asked, given);
    });
    server_.set_keep_alive_max_count(1);  // else its end waits for connections that are kept
    port_ = server_.bind_to_any_port("127.0.0.1");
    thread_ = std::jthread([this] { server_.listen_after_bind(); });
    while (!server_.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ~Mirror() { server_.stop(); }
  std::string url(const std::string& host = "127.0.0.1") const {
    return "http://" + host + ":" + std::to_string(port_);
  }
  std::vector<httplib::Request> asked() const {
    const std::lock_guard lock(mutex_);
    return asked_;
  }

 private:
  httplib::Server server_;
  mutable std::mutex mutex_;
  std::vector<httplib::Request> asked_;
  int port_ = 0;
  std::jthread thread_;
};

std::string blob(std::size_t size) {
  std::string content;
  for (std::size_t i = 0; i < size; ++i) content += static_cast<char>('a' + (i * i + i / 7) % 26);
  return content;
}

const std::string kContent = blob(300'000);

void send(const httplib::Request&, httplib::Response& answer) { answer.set_content(kContent, "text/plain"); }

/// The whole length is announced, a part of it comes: from the range's begin where one was asked for.
Answer breaks_after(std::size_t bytes) {
  return [bytes](const httplib::Request& asked, httplib::Response& answer) {
    const std::size_t from = asked.ranges.empty() ? 0 : static_cast<std::size_t>(asked.ranges[0].first);
    const std::string rest = kContent.substr(from);
    if (!asked.ranges.empty()) {
      answer.status = 206;
      answer.set_header("Content-Range", fmt::format("bytes {}-{}/{}", from, kContent.size() - 1, kContent.size()));
    }
    const_cast<httplib::Request&>(asked).ranges.clear();
    answer.set_content_provider(rest.size(), "text/plain", [=](std::size_t, std::size_t, httplib::DataSink& sink) {
      sink.write(rest.data(), std::min(bytes, rest.size()));
      return false;
    });
  };
}

PackageToFetch package_of(const std::string& name) {
  PackageToFetch one;
  one.package.name = name;
  one.package.version = Version::parse("1-1").value();
  one.package.arch = "independent";
  one.offer.repository = "base";
  one.offer.size = kContent.size();
  one.offer.digest = sha256(kContent);
  return one;
}

class Mirrors : public testing::Test {
 protected:
  static settings::Repository repository(const std::vector<std::string>& urls) {
    settings::Repository one;
    one.name = "base";
    one.url = urls.front();
    one.further.assign(urls.begin() + 1, urls.end());
    one.access.timeout = 2;
    return one;
  }
  /// "" or the problem.
  std::string fetch(const settings::Repository& one, const std::string& name = "lamp") {
    return fetch(one, name, network);
  }
  std::string fetch(const settings::Repository& one, const std::string& name, Network& asked) {
    try {
      download(*fs, asked, {package_of(name)}, {one}, silent);
      EXPECT_EQ(test::read_file(root / cache_path(package_of(name).package)), kContent);
      return "";
    } catch (const Error& error) {
      return error.what() + (" -> " + error.hint());
    }
  }
  std::string fetch_from(const std::vector<std::string>& urls) { return fetch(repository(urls)); }
  test::TempDir root;
  std::unique_ptr<os::FileSystem> fs = os::open_file_system(root.text());
  Network network{3};
  Observer silent;
};

}  // namespace

TEST_F(Mirrors, WhatOneDoesNotHaveTheNextOneSends) {
  const Mirror good(send), absent([](const auto&, auto&answer) { answer.status = 404; }),
      lies([](const auto&, auto&answer) { answer.set_content(std::string(kContent.size(), 'x'), "text/plain"); }),
      longer([](const auto&, auto&answer) { answer.set_content(kContent + "more", "text/plain"); }),
      away([](const auto&, auto&answer) { answer.set_redirect("file:///etc/passwd"); });
  EXPECT_EQ(fetch_from({"http://127.0.0.1:1", absent.url(), lies.url(), longer.url(), away.url(), good.url()}), "");
  EXPECT_EQ(good.asked().size(), 1U);
  EXPECT_EQ(lies.asked().size(), 1U);
}

TEST_F(Mirrors, OfSeveralProblemsTheOneThatMattersIsTold) {
  const Mirror absent([](const auto&, auto&answer) { answer.status = 404; }),
      lies([](const auto&, auto&answer) { answer.set_content(std::string(kContent.size(), 'x'), "text/plain"); });
  EXPECT_THAT(fetch_from({"http://127.0.0.1:1", lies.url(), absent.url()}),
              testing::AllOf(HasSubstr("its digest differs"), HasSubstr(lies.url())));
  EXPECT_THAT(fetch_from({absent.url(), "http://127.0.0.1:1"}), HasSubstr("status 404"));
}

TEST_F(Mirrors, ABrokenTransferGoesOnElsewhereWhereItEnded) {
  const Mirror first(breaks_after(100'000)), second(breaks_after(100'000)), third(send);
  EXPECT_EQ(fetch_from({first.url(), second.url(), third.url()}), "");
  EXPECT_EQ(second.asked().at(0).get_header_value("Range"), fmt::format("bytes=100000-{}", kContent.size() - 1));
  EXPECT_EQ(third.asked().at(0).get_header_value("Range"), fmt::format("bytes=200000-{}", kContent.size() - 1));
}

TEST_F(Mirrors, WhatBreaksWhereThereIsNoOtherGoesOnThere) {
  const Mirror only(breaks_after(120'000));
  EXPECT_EQ(fetch_from({only.url()}), "");
  EXPECT_EQ(only.asked().size(), 3U);
}

TEST_F(Mirrors, ARestThatBelongsToAnotherFileIsNotUsed) {
  // half of it came, then the file was another one: of the same size with another tag, or of another size
  for (const bool longer : {false, true}) {
    int count = 0;
    const std::string other = longer ? blob(310'000) : std::string(kContent.size(), 'z');
    const Mirror mirror([&](const httplib::Request& asked, httplib::Response& answer) {
      answer.set_header("ETag", ++count == 1 ? "\"one\"" : "\"two\"");
      if (count == 1) return breaks_after(150'000)(asked, answer);
      const bool is_same = asked.get_header_value("If-Range") == "\"two\"";
      if (!is_same && !longer) const_cast<httplib::Request&>(asked).ranges.clear();  // RFC 9110, section 13.1.5
      answer.set_content(count == 2 ? other : kContent, "text/plain");
    });
    EXPECT_EQ(fetch(repository({mirror.url()}), longer ? "mast" : "lamp"), "");
    EXPECT_EQ(mirror.asked().at(1).get_header_value("If-Range"), "\"one\"");
    EXPECT_EQ(mirror.asked().back().get_header_value("Range"), "") << "from its start";
  }
}

TEST_F(Mirrors, WhatPassesIsAskedForAgain) {
  int count = 0;
  const Mirror busy([&](const httplib::Request& asked, httplib::Response& answer) {
    if (++count < 3)
      answer.status = 503;
    else
      send(asked, answer);
  });
  EXPECT_EQ(fetch_from({busy.url()}), "");
  const Mirror broken([](const auto&, auto& answer) { answer.status = 500; });
  EXPECT_THAT(fetch_from({broken.url()}), testing::IsEmpty()) << "it is in the cache";
  EXPECT_THAT(fetch(repository({broken.url()}), "mast"), HasSubstr("status 500"));
  EXPECT_EQ(broken.asked().size(), 3U);
}

TEST_F(Mirrors, WhoeverReadsWhatALiarSentDoesNotBlameTheOneThatIsAskedNow) {
  const Mirror liar(
      [](const auto&, auto& answer) { answer.set_content(std::string(kContent.size(), 'x'), "text/plain"); });
  std::atomic<bool> goes_on = false;
  const Mirror honest([&](const httplib::Request& asked, httplib::Response& answer) {
    while (!goes_on) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    send(asked, answer);
  });
  const settings::Repository both = repository({liar.url(), honest.url()});
  {
    DownloadQueue queue(*fs, network, {package_of("lamp")}, {both});
    while (honest.asked().empty()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    EXPECT_TRUE(queue.spoil(*queue.url_of(package_of("lamp").package))) << "another try is worth it";
  }
  goes_on = true;
  EXPECT_EQ(fetch(both), "");
  EXPECT_EQ(liar.asked().size(), 1) << "who lied is not asked first";
}

TEST_F(Mirrors, ManyFilesAreSharedAndNobodyWaitsForTheSlow) {
  std::atomic<int> under_way = 0;
  const Mirror fast(send), slow([&](const httplib::Request&, httplib::Response&answer) {
    ++under_way;
    answer.set_content_provider(
        kContent.size(), "text/plain", [](std::size_t at, std::size_t, httplib::DataSink& sink) {
          std::this_thread::sleep_for(std::chrono::milliseconds(40));
          return sink.write(kContent.data() + at, std::min<std::size_t>(30'000, kContent.size() - at));
        });
  });
  std::vector<PackageToFetch> all;
  for (int i = 0; i < 40; ++i) all.push_back(package_of("p" + std::to_string(i)));
  download(*fs, network, all, {repository({slow.url(), fast.url()})}, silent);
  EXPECT_GT(slow.asked().size(), 0U);
  EXPECT_GT(fast.asked().size(), 5 * slow.asked().size());
}

TEST_F(Mirrors, ARateIsKeptByAllTransfersTogether) {
  const Mirror mirror(send);
  settings::Repository one = repository({mirror.url()});
  one.access.rate = 1 << 20;
  std::vector<PackageToFetch> all;
  for (int i = 0; i < 6; ++i) all.push_back(package_of("p" + std::to_string(i)));
  const auto began = std::chrono::steady_clock::now();
  download(*fs, network, all, {one}, silent);
  EXPECT_GT(std::chrono::steady_clock::now() - began, std::chrono::milliseconds(900)) << "1.8 MB at 1 MiB a second";
}

TEST_F(Mirrors, WhatIsKnownAlreadyDoesNotComeAgain) {
  const Mirror mirror([](const httplib::Request& asked, httplib::Response& answer) {
    answer.set_header("ETag", "\"7\"");
    if (asked.get_header_value("If-None-Match") == "\"7\"")
      answer.status = 304;
    else
      send(asked, answer);
  });
  std::vector<Request> requests{network.request(repository({mirror.url()}), "trust/timestamp.json", 1 << 20)};
  std::string text;
  requests[0].sink = [&](std::string_view data) { text += data; };
  network.fetch(requests, silent);
  EXPECT_EQ(requests[0].etag, "\"7\"");
  EXPECT_FALSE(requests[0].unchanged);
  requests[0].if_etag = requests[0].etag;
  text.clear();
  network.fetch(requests, silent);
  EXPECT_TRUE(requests[0].unchanged);
  EXPECT_FALSE(requests[0].problem);
  EXPECT_EQ(text, "");
}

TEST_F(Mirrors, SecretsGoToTheServersOfTheRepositoryAndToNobodyElse) {
  const Mirror stranger(send);
  const Mirror mirror([&](const httplib::Request& asked, httplib::Response& answer) {
    if (asked.get_header_value("Authorization") != "Basic c2tlcnJ5OnRpZGU=") {
      answer.status = 401;
      answer.set_header("WWW-Authenticate", "Basic realm=\"skerry\"");
      return;
    }
    answer.set_redirect(stranger.url("localhost") + "/" + asked.path);
  });
  settings::Repository one = repository({mirror.url()});
  one.access.headers = {"X-Station: key-of-the-harbour"};
  EXPECT_THAT(fetch(one), HasSubstr("put user = \"...\" and password = \"...\" into "
                                    "/etc/hambrel/repos/base.credentials, mode 0600"));
  one.access.credentials.user = "skerry";
  one.access.credentials.password = "tide";
  Network other;
  download(*fs, other, {package_of("lamp")}, {one}, silent);
  EXPECT_EQ(mirror.asked().back().get_header_value("X-Station"), "key-of-the-harbour");
  ASSERT_EQ(stranger.asked().size(), 1U);
  EXPECT_EQ(stranger.asked()[0].get_header_value("X-Station"), "");
  EXPECT_EQ(stranger.asked()[0].get_header_value("Authorization"), "");
  one.access.credentials.password = "ebb";
  Network third;
  EXPECT_THAT(fetch(one, "mast", third),
              HasSubstr("check the user and the password in /etc/hambrel/repos/base.credentials"));
}

}  // namespace hambrel::repo
