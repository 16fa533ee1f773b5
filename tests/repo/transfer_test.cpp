// Fetching from servers that misbehave.
#include "repo/transfer.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <thread>

#include "repo/download.h"
#include "support/crash_fs.h"
#include "support/program.h"

namespace hambrel::repo {

using test::refusal;

namespace {

class Server {
 public:
  Server() {
    server.Get("/good", [](const httplib::Request&, httplib::Response& answer) {
      answer.set_content("0123456789", "text/plain");
    });
    server.Get("/loop", [](const httplib::Request&, httplib::Response& answer) { answer.set_redirect("/loop"); });
    server.Get("/to-file",
               [](const httplib::Request&, httplib::Response& answer) { answer.set_redirect("file:///etc/passwd"); });
    server.Get("/cut", [](const httplib::Request&, httplib::Response& answer) {
      answer.set_content_provider(1000, "text/plain", [](std::size_t, std::size_t, httplib::DataSink& sink) {
        sink.write("half", 4);
        return false;
      });
    });
    server.Get("/no-ranges", [](const httplib::Request& asked, httplib::Response& answer) {
      const_cast<httplib::Request&>(asked).ranges.clear();
      answer.set_content("0123456789", "text/plain");
    });
    server.Get("/endless", [](const httplib::Request&, httplib::Response& answer) {
      answer.set_chunked_content_provider("text/plain", [](std::size_t, httplib::DataSink& sink) {
        return sink.write(std::string(65536, 'x').data(), 65536);
      });
    });
    server.Get("/drip", [](const httplib::Request&, httplib::Response& answer) {
      answer.set_content_provider(1000, "text/plain", [](std::size_t, std::size_t, httplib::DataSink& sink) {
        std::this_thread::sleep_for(std::chrono::milliseconds(100));
        return sink.write("x", 1);
      });
    });
    port_ = server.bind_to_any_port("127.0.0.1");
    thread_ = std::jthread([this] { server.listen_after_bind(); });
    while (!server.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ~Server() { server.stop(); }
  std::string url(const std::string& path) const { return "http://127.0.0.1:" + std::to_string(port_) + path; }
  httplib::Server server;

 private:
  int port_ = 0;
  std::jthread thread_;
};

std::string text(const std::string& url, std::uint64_t limit,
                 std::optional<std::pair<std::uint64_t, std::uint64_t>> range = {}, const Pace& pace = {}) {
  Network network;
  Request request;
  request.url = url;
  request.limit = limit;
  request.range = range;
  request.pace = pace;
  return network.text(std::move(request));
}

std::string problem(const std::string& url, std::uint64_t limit = 1000,
                    std::optional<std::pair<std::uint64_t, std::uint64_t>> range = {}) {
  try {
    return "got " + text(url, limit, range);
  } catch (const Error& error) {
    return error.problem();
  }
}

}  // namespace

TEST(Transfer, EachKindOfBadServerEndsInAnAnswer) {
  const Server server;
  EXPECT_EQ(problem(server.url("/good")), "got 0123456789");
  EXPECT_EQ(problem(server.url("/good"), 10, std::pair(3, 4)), "got 3456");
  EXPECT_EQ(problem(server.url("/good"), 5), "more than the expected 5 bytes arrived");
  EXPECT_EQ(problem(server.url("/endless"), 100'000), "more than the expected 100000 bytes arrived");
  EXPECT_EQ(problem(server.url("/missing")), "the server answered with status 404");
  EXPECT_EQ(problem(server.url("/loop")), "redirects more than 5 times");
  EXPECT_EQ(problem(server.url("/to-file")),
            "the server redirects to an address Hambrel does not follow: only to http and https");
  EXPECT_TRUE(problem(server.url("/cut")).starts_with("cannot be fetched: transfer closed"));
  EXPECT_EQ(problem(server.url("/no-ranges"), 4, std::pair(3, 4)), "got 3456");
  EXPECT_TRUE(problem("http://127.0.0.1:1/x").starts_with("cannot be fetched: Failed to connect"));
}

TEST(Transfer, ManyAtOnceFailOneByOne) {
  const Server server;
  std::vector<std::string> texts(40);
  std::vector<Request> requests;
  for (std::size_t i = 0; i < texts.size(); ++i)
    requests.push_back({server.url(i % 4 == 0 ? "/missing" : "/good"),
                        10,
                        {},
                        [&texts, i](std::string_view data) { texts[i] += data; },
                        {}});
  Observer silent;
  Network(6).fetch(requests, silent);
  for (std::size_t i = 0; i < texts.size(); ++i) {
    EXPECT_EQ(requests[i].problem.has_value(), i % 4 == 0);
    EXPECT_EQ(texts[i], i % 4 == 0 ? "" : "0123456789");
  }
}

TEST(Transfer, ADripDoesNotLastForEver) {
  const Server server;
  const auto slow = [&](const Pace& pace) { return refusal([&] { text(server.url("/drip"), 1000, {}, pace); }); };
  EXPECT_THAT(slow({1000, 1, 0}), testing::HasSubstr("too slow: "));
  EXPECT_THAT(slow({0, 100, 1}), testing::HasSubstr("not complete after 1 seconds"));
}

TEST(Transfer, WhoeverWantsOnlyTheRangeIsToldThatThereIsNone) {
  const Server server;
  std::vector<Request> requests(1);
  requests[0].url = server.url("/no-ranges");
  requests[0].limit = 4;
  requests[0].range = std::pair(3, 4);
  requests[0].only_range = true;
  requests[0].sink = [](std::string_view) { FAIL(); };
  Observer silent;
  Network(1).fetch(requests, silent);
  EXPECT_TRUE(requests[0].no_ranges);
  EXPECT_TRUE(requests[0].problem);
}

TEST(Transfer, AProblemOfTheReceiverIsToldAsItIs) {
  const Server server;
  std::vector<Request> requests(1);
  requests[0] = {
      server.url("/good"), 10, {}, [](std::string_view) { throw Error(ErrorCode::Io, "disk full", "/cache/x"); }, {}};
  Observer silent;
  Network(1).fetch(requests, silent);
  EXPECT_EQ(requests[0].problem.value().problem(), "disk full");
}

namespace {

PackageToFetch wanted(const std::string& name, const std::string& content = "PACKAGE",
                      const std::string& version = "1") {
  PackageToFetch one;
  one.package.name = name;
  one.package.version = Version::parse(version).value();
  one.package.arch = "independent";
  one.offer.repository = "base";
  one.offer.size = content.size();
  one.offer.digest = sha256(content);
  return one;
}

}  // namespace

TEST(Download, OnlyTheRightContentGetsItsName) {
  Server server;
  server.server.Get("/packages/.*", [](const httplib::Request&, httplib::Response& answer) {
    answer.set_content("PACKAGE", "text/plain");
  });
  const test::TempDir root;
  const auto fs = os::open_file_system(root.text());
  const std::vector<settings::Repository> repositories{{"base", server.url(""), {"stable"}, true, 50}};
  Observer silent;
  Network network;
  EXPECT_EQ(download(*fs, network, {wanted("good", "PACKAGE", "1:2~rc1-1")}, repositories, silent), 7U);
  EXPECT_EQ(test::read_file(root / "var/cache/hambrel/packages/good/1:2~rc1-1.independent.hambrel"), "PACKAGE");
  EXPECT_EQ(download(*fs, network, {wanted("good", "PACKAGE", "1:2~rc1-1")}, repositories, silent), 0U)
      << "the cache has it";
  try {
    download(*fs, network, {wanted("bad", "package", "1:2~rc1-1"), wanted("also-good", "PACKAGE", "1:2~rc1-1")},
             repositories, silent);
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.problem(), "bad 1:2~rc1-1 is not the file that base describes (its digest differs)");
  }
  EXPECT_TRUE(fs->list("var/cache/hambrel/packages/bad").empty());
  EXPECT_TRUE(fs->stat("var/cache/hambrel/packages/also-good/1:2~rc1-1.independent.hambrel"));
  test::write_file(root / "var/cache/hambrel/packages/good/1:2~rc1-1.independent.hambrel",
                   "PACK");  // cut off in the cache
  EXPECT_EQ(download(*fs, network, {wanted("good", "PACKAGE", "1:2~rc1-1")}, repositories, silent), 7U);
}

TEST(Download, WhatIsCountedOnOutlastsAPowerCutAndElseWhatIsLostComesAgain) {
  Server server;
  server.server.Get("/packages/.*", [](const httplib::Request&, httplib::Response& answer) {
    answer.set_content("PACKAGE", "text/plain");
  });
  const std::vector<settings::Repository> repositories{{"base", server.url(""), {"stable"}, true, 50}};
  const PackageToFetch lamp = wanted("lamp");
  Observer silent;
  Network network;
  using Loss = test::CrashFs::Loss;
  for (const Loss loss : {Loss::Nothing, Loss::Everything, Loss::Content, Loss::Some})
    for (const bool counted_on : {true, false})
      for (std::uint64_t seed = 0; seed < (loss == Loss::Some ? 8U : 1U); ++seed) {
        test::CrashFs fs;
        EXPECT_EQ(download(fs, network, {lamp}, repositories, silent, counted_on), 7U);
        fs.reboot(loss, seed);
        drop_damaged(fs, {lamp});
        EXPECT_TRUE(!counted_on || in_cache(fs, lamp.package, lamp.offer)) << static_cast<int>(loss) << " " << seed;
        download(fs, network, {lamp}, repositories, silent);
        EXPECT_EQ(fs.digest(cache_path(lamp.package)), lamp.offer.digest);
      }
}

TEST(Download, WhatIsWholeIsNotAskedForAgainAndARestGoesOnWithoutRanges) {
  Server server;
  std::atomic<int> asked = 0;
  server.server.Get("/packages/.*", [&](const httplib::Request& request, httplib::Response& answer) {
    ++asked;
    const_cast<httplib::Request&>(request).ranges.clear();  // it knows none
    if (request.path.find("closes") == std::string::npos) return answer.set_content("PACKAGE", "text/plain");
    answer.set_content_provider("text/plain", [](std::size_t offset, httplib::DataSink& sink) {  // ends badly, with all
      if (offset == 0) sink.write("PACKAGE", 7);
      return false;
    });
  });
  const test::TempDir root;
  const auto fs = os::open_file_system(root.text());
  const std::vector<settings::Repository> repositories{{"base", server.url(""), {"stable"}, true, 50}};
  Observer silent;
  Network network;
  EXPECT_EQ(download(*fs, network, {wanted("closes")}, repositories, silent), 7U);
  EXPECT_EQ(asked, 1);
  const std::string rest =
      "var/cache/hambrel/packages/rest/1.independent.hambrel." + sha256("PACKAGE").hex().substr(0, 8) + ".part";
  test::write_file(root / rest, "PACK");
  EXPECT_EQ(download(*fs, network, {wanted("rest")}, repositories, silent), 3U);
  EXPECT_EQ(test::read_file(root / "var/cache/hambrel/packages/rest/1.independent.hambrel"), "PACKAGE");
}

}  // namespace hambrel::repo
