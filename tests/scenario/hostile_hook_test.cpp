// Programs of packages that try to get out of their preview, to stay, or to do harm where they are.
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <thread>

#include "scenario/acting.h"

namespace hambrel::test {

class HostileHook : public Acting {};

/// The most processes and threads of the machine at once, while it lives.
class MostTasks {
 public:
  ~MostTasks() { stop(); }
  int beyond_the_first() const {
    stop();
    return most_ - first_;
  }

 private:
  static int tasks() {
    const std::string load = read_file("/proc/loadavg");  // its fourth number is running/all
    return std::stoi(load.substr(load.find('/') + 1));
  }
  void stop() const {
    stop_ = true;
    if (watcher_.joinable()) watcher_.join();
  }

  const int first_ = tasks();
  mutable std::atomic<int> most_ = 0;
  mutable std::atomic<bool> stop_ = false;
  mutable std::thread watcher_{[this] {
    while (!stop_) most_ = std::max(most_.load(), tasks());
  }};
};

TEST_F(HostileHook, IsHeldIn) {
  write_file(station.path("outside"), "untouched");
  write_file(station.root() / "etc/hambrel/hambrel.toml",
             "[hooks]\nseconds = 1\nmebibytes = 16\nmemory_mebibytes = 64\n");
  const auto add = [&](const std::string& name, const std::string& script) {
    station.pack(name, "1-1", hook("install", script, "\"var/out/**\""), {{"usr/" + name, "1"}});
  };
  add("endless", "while :; do :; done");
  add("sleeping", "sleep 1000 & sleep 1000");
  add("bombing", "b() { b | b & }; b; while :; do b; done");
  add("swelling",
      "hold() { x=12345678; for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do x=$x$x; done; sleep 9; }\n"
      "for each in 1 2 3 4 5 6 7 8 9 10 11 12; do hold & done; wait");
  add("filling", "mkdir /var/out; while :; do cat /dev/zero >> /var/out/f; done");
  add("devices", "mkdir /var/out; mknod /var/out/sda b 8 0 || exit 7");
  add("pipes", "mkdir /var/out; mkfifo /var/out/pipe");
  add("rights", "mkdir /var/out; echo > /var/out/x; chmod 4755 /var/out/x");
  add("opening", "mkdir -p /var/out/all; chmod 777 /var/out/all");
  add("killing", "kill -9 1; kill -9 -1; exit 9");
  add("reading", "head -c 1 || exit 8; read line || exit 8");
  station.open();
  refused("endless", "took more than 1 s");
  refused("sleeping", "took more than 1 s");
  {
    // a bomb that is only looked at from time to time fills the machine before it is seen
    const MostTasks most;
    refused("bombing", "the hook of bombing failed");
    EXPECT_LT(most.beyond_the_first(), 1024 + 500);
  }
  // control groups are the limit of kernels that know no other; not every machine lets us make them
  if (::access("/sys/fs/cgroup/pids", W_OK) == 0 ||
      read_file("/sys/fs/cgroup/cgroup.subtree_control").find("pids") != std::string::npos) {
    const MostTasks most;
    ::setenv("HAMBREL_TEST_OLD_KERNEL", "1", 1);
    refused("bombing", "the hook of bombing failed");
    ::unsetenv("HAMBREL_TEST_OLD_KERNEL");
    EXPECT_LT(most.beyond_the_first(), 1024 + 500);
  }
  refused("swelling", "took more than 64 MiB of memory");
  refused("filling", "the hook of filling");
  refused("devices", "returned 7");
  refused("pipes", "/var/out/pipe: the hook of pipes made something that is no file, directory or link");
  refused("rights", "/var/out/x: the hook of rights made a file that runs with the rights of another user");
  refused("opening", "/var/out/all: the hook of opening made a directory that every user may change");
  refused("killing", "the hook of killing failed");
  refused("reading", "returned 8");
  EXPECT_EQ(read_file(station.path("outside")), "untouched");
}

TEST_F(HostileHook, SeesNothingOfTheMachine) {
  write_file(station.path("outside"), "secret");
  const std::string outside = station.path("outside").string();
  station.pack(
      "looking", "1-1",
      hook("install",
           "[ -e " + outside +
               " ] && exit 1\n"
               "[ -e /proc/1/root" +
               outside +
               " ] && exit 2\n"
               "[ \"$(ls /var/lib/hambrel 2>/dev/null)\" = '' ] || exit 3\n"
               "[ \"$(ls /etc/hambrel 2>/dev/null)\" = '' ] || exit 4\n"
               "[ \"$(ls /proc | head -n 60 | { n=0; while read p; do case $p in [0-9]*) n=$((n+1));; esac; done;"
               " echo $n; })\" -lt 8 ] || exit 5\n"
               "(echo x > /proc/sys/kernel/core_pattern) 2>/dev/null && exit 6\n"
               "(echo b > /proc/sysrq-trigger) 2>/dev/null && exit 7\n"
               "while read a b; do case $a in lo:|Inter*|face*) ;; *) exit 8;; esac; done < /proc/net/dev\n"
               "[ -e /dev/sda ] && exit 9\n"
               "(: < /dev/tty) 2>/dev/null && exit 10\n"
               "for f in /proc/1/fd/* /proc/1/cwd /proc/self/fd/*; do [ -e $f/" +
               outside +
               " ] && exit 11; done\n"
               "for f in /proc/1/fd/*; do [ -e $f ] && exit 12; done\n"
               "(: < /proc/1/mem) 2>/dev/null && exit 13\n"
               "echo temporary > /tmp/x; echo temporary > /run/x\n"
               "exit 0"),
      {{"usr/looking", "1"}});
  station.open();
  done({"install", "looking"});
  EXPECT_EQ(content("tmp/x"), "(not there)");
}

}  // namespace hambrel::test
