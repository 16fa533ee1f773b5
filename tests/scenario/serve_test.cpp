// The server for labs: what it gives out, what it refuses, and a repository behind it.
#include <gmock/gmock.h>
#include <httplib.h>
#include <signal.h>
#include <spawn.h>
#include <sys/wait.h>

#include <array>
#include <thread>

#include "scenario/station.h"

namespace hambrel::test {

using testing::HasSubstr;

/// `hambrel serve` on a free port, ended like by Ctrl-C.
class Served {
 public:
  explicit Served(const fs::path& directory) {
    std::array<int, 2> ends{};
    EXPECT_EQ(pipe2(ends.data(), O_CLOEXEC), 0);
    process_ = fork();
    if (process_ == 0) {
      dup2(ends[1], STDOUT_FILENO);
      execl(HAMBREL_PROGRAM, HAMBREL_PROGRAM, "serve", directory.c_str(), "--port", "0", "--quiet", nullptr);
      _exit(127);
    }
    close(ends[1]);
    std::string line;
    for (char c = 0; read(ends[0], &c, 1) == 1 && c != '\n';) line += c;
    close(ends[0]);
    const auto colon = line.find("http://127.0.0.1:");
    if (colon != std::string::npos) port_ = std::stoi(line.substr(colon + 17));
  }
  ~Served() { end(); }
  int port() const { return port_; }
  int end() {
    if (process_ == 0) return 0;
    kill(process_, SIGINT);
    int status = 0;
    waitpid(process_, &status, 0);
    process_ = 0;
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128;
  }

 private:
  pid_t process_ = 0;
  int port_ = 0;
};

TEST(Serve, GivesFilesRangesAndConditionsAndNothingElse) {
  const Station station;
  const fs::path served = station.path("served");
  write_file(served / "a/file", "0123456789");
  write_file(served / "empty", "");
  write_file(station.path("outside"), "secret");
  fs::create_symlink(station.path("outside"), served / "link");
  Served server(served);
  ASSERT_GT(server.port(), 0);
  httplib::Client client("127.0.0.1", server.port());
  client.set_keep_alive(true);
  const auto whole = client.Get("/a/file");
  ASSERT_TRUE(whole);
  EXPECT_EQ(whole->body, "0123456789");
  const std::string tag = whole->get_header_value("ETag");
  EXPECT_EQ(client.Get("/a/file", {{"If-None-Match", "\"other\", " + tag}})->status, 304);
  const auto part = client.Get("/a/file", {httplib::make_range_header({{3, 5}})});
  EXPECT_EQ(part->status, 206);
  EXPECT_EQ(part->body, "345");
  EXPECT_EQ(client.Get("/a/file", {httplib::make_range_header({{3, 5}}), {"If-Range", "\"other\""}})->body,
            "0123456789");
  EXPECT_EQ(client.Get("/empty")->body, "");
  for (const char* const path :
       {"/", "/a", "/a/", "/none", "/link", "/../outside", "/%2e%2e/outside", "/a/../../outside"})
    EXPECT_EQ(client.Get(path)->status, 404) << path;
  EXPECT_GE(client.Put("/a/file", "x", "text/plain")->status, 400);
  EXPECT_EQ(read_file(served / "a/file"), "0123456789");
  const Ran second = run({HAMBREL_PROGRAM, "serve", served.string(), "--port", std::to_string(server.port())});
  EXPECT_EQ(second.code, 1);
  EXPECT_THAT(second.err, HasSubstr("cannot listen on this address and port"));
  EXPECT_THAT(run({HAMBREL_PROGRAM, "serve", "/nowhere/at/all"}).err, HasSubstr("the directory does not exist"));
  EXPECT_EQ(server.end(), 0);
}

TEST(Serve, ARepositoryIsInstalledFromByManyAtOnce) {
  const Station station;
  station.pack("lamp", "1-1", "", {{"usr/bin/lamp", std::string(300'000, 'l')}});
  station.publish();
  Served server(station.repository());
  const std::string url = "http://127.0.0.1:" + std::to_string(server.port());
  std::vector<std::jthread> threads;
  std::vector<Ran> ran(8);
  for (std::size_t i = 0; i < ran.size(); ++i)
    threads.emplace_back([&, i] {
      const std::string root = station.path("root" + std::to_string(i)).string();
      fs::create_directories(root);
      for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
               {"repo", "add", "base", url, "--unsigned"}, {"refresh"}, {"install", "lamp", "-y"}}) {
        std::vector<std::string> all{HAMBREL_PROGRAM, "--root", root};
        all.insert(all.end(), words.begin(), words.end());
        ran[i] = run(all);
        if (ran[i].code != 0) return;
      }
    });
  threads.clear();
  for (const Ran& one : ran) EXPECT_EQ(one.code, 0) << one.err;
}

TEST(Serve, ASignedRepositoryIsVerifiedByWhoTrustsIt) {
  const Station station;
  const auto publish = [&](const std::vector<std::string>& more) {
    std::vector<std::string> words{"publish", station.repository().string()};
    words.insert(words.end(), more.begin(), more.end());
    return station.hambrel(words);
  };
  const std::string keys = station.path("keys").string();
  fs::create_directories(keys);
  for (const char* role : {"root", "timestamp", "snapshot", "targets"})
    ASSERT_EQ(station.hambrel({"key", "new", keys + "/" + role + ".key"}).code, 0);
  station.pack("lamp", "1-1", "", {{"usr/bin/lamp", "l"}});
  EXPECT_THAT(publish({"--keys", keys, "--init"}).out, HasSubstr("signed by root 1"));
  Served server(station.repository());
  const std::string url = "http://127.0.0.1:" + std::to_string(server.port());

  // only an answer, or the right fingerprint, is a decision
  const Ran asked = station.hambrel({"repo", "add", "base", url, "--yes"});
  EXPECT_EQ(asked.code, 4) << asked.out;
  EXPECT_EQ(station.on_terminal("no", {"repo", "add", "base", url}).code, 4);
  EXPECT_EQ(station.hambrel({"repo", "add", "base", url, "--fingerprint", std::string(64, '0')}).code, 5);
  EXPECT_FALSE(fs::exists(station.root() / "etc/hambrel/trust/base"));
  EXPECT_FALSE(fs::exists(station.root() / "etc/hambrel/repos/base.toml"));
  const auto line = asked.out.find("document:\n  ");
  ASSERT_NE(line, std::string::npos) << asked.out;
  const std::string fingerprint = asked.out.substr(line + 12, 81);
  EXPECT_EQ(station.hambrel({"repo", "add", "base", url, "--fingerprint", fingerprint}).code, 0);
  EXPECT_THAT(station.hambrel({"refresh"}).out, HasSubstr("verified by root 1"));
  EXPECT_THAT(station.hambrel({"repo", "list"}).out, HasSubstr("verified by root 1"));

  // somebody on the server publishes another package, without the keys
  fs::rename(station.repository() / "trust/1.root.json", station.path("put aside"));
  station.pack("leech", "1-1", "", {{"usr/bin/leech", "l"}});
  EXPECT_THAT(publish({}).out, HasSubstr("not signed"));
  fs::rename(station.path("put aside"), station.repository() / "trust/1.root.json");
  const Ran refused = station.hambrel({"refresh"});
  EXPECT_EQ(refused.code, 5);
  EXPECT_THAT(refused.err, HasSubstr("is not signed by any of the timestamp keys"));
  EXPECT_EQ(station.hambrel({"install", "-n", "leech"}).code, 3) << "it is not there";
  EXPECT_EQ(station.hambrel({"install", "-y", "lamp"}).code, 0) << "what was verified before stays in use";
  EXPECT_THAT(publish({"--keys", keys}).out, HasSubstr("signed by root 1"));
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);

  // what is known of it is damaged: nothing is taken, and trusting anew is the way out
  write_file(station.root() / "var/lib/hambrel/trust/base/state.json", "{");
  EXPECT_THAT(station.hambrel({"repo", "list"}).out, HasSubstr("state.json"));
  EXPECT_NE(station.hambrel({"refresh"}).code, 0);
  EXPECT_EQ(station.hambrel({"repo", "trust", "base", "--fingerprint", fingerprint}).code, 0);
  EXPECT_EQ(station.hambrel({"refresh"}).code, 0);
}

}  // namespace hambrel::test
