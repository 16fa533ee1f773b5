// A program on a preview of a root: it sees the root as it will be, and what it writes stays aside.
//
// The preview is an overlay (https://docs.kernel.org/filesystems/overlayfs.html) of what is staged over the root, in
// namespaces of its own: of mounts, processes, network, IPC and host name. The program has no terminal, no network, no
// device but null, zero, full and the random ones, a /tmp, /run and /var/tmp that vanish, and of the rights of root
// those that files need: it can't mount, make devices, load modules, trace others, or gain rights by what it runs. It
// and all that it left running are gone when run() returns, whatever became of this process.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

namespace hambrel::os {

/// One file system of the root. All but `at` are paths of the host, of directories that exist. `at` below run/ is made.
struct PreviewLayer {
  std::string at;         // relative to the root: "" for its own, else where another one is mounted in it
  std::string lower;      // as it is
  std::string view;       // what lies over that, as an overlay's layer; empty: nothing
  std::string upper;      // on one file system with `work`: takes what is written; empty: nothing may be
  std::string work;       // empty, for the kernel
  bool writable = false;  // without a view and an upper: may `lower` itself be written to?
};

struct PreviewLimits {
  unsigned seconds = 60;              // by the clock on the wall
  unsigned processes = 1024;          // and threads, at once
  std::uint64_t memory = 2ULL << 30;  // bytes of address space of each process, and of memory of all together
  std::uint64_t disk = 1ULL << 30;    // bytes that what it writes may take
  std::uint64_t files = 1ULL << 18;   // that it may make
};

struct PreviewProgram {
  std::vector<std::string> words;        // the first is an absolute path in the root
  std::vector<std::string> environment;  // NAME=VALUE
  std::string script{};                  // if not empty: readable for the program at kScript
  std::string directory{};               // that it works in, absolute in the root; empty: /
  bool on_terminal = false;              // it reads and writes what this process does, for people who look around
  std::uint32_t user = 0;                // and group, that it runs as; not 0: it has no rights beyond these
};
inline constexpr const char* kScript = "/run/script";

struct Preview {
  std::vector<PreviewLayer> layers{};  // the root's own first, then those in it from the top down
  std::vector<std::string> hidden{};   // directories that seem empty, relative to the root
  std::string merged{};                // an empty directory of the host, to mount on
};

struct ProgramEnd {
  enum class Kind {
    Exited,      // code: what it returned
    Killed,      // code: the signal
    NotStarted,  // problem: why
    TooLong,     // over the limit
    TooMany,     // processes and threads
    TooLarge,    // memory
    TooMuch,     // written
    TooManyFiles,
    NoPreview,  // problem: what this system does not let us do
    Stopped     // it was asked to
  };
  Kind kind = Kind::Exited;
  int code = 0;
  std::string problem{};
  std::string output{};  // the last of what it printed, both streams together
  std::int64_t milliseconds = 0;
  bool succeeded() const { return kind == Kind::Exited && code == 0; }
};
inline constexpr std::size_t kKeptOutput = 64 << 10;  // bytes

/// Runs it to its end. `printed` is given what it prints as it comes. Throws Error{Io} for want of memory, pipes or
/// processes here; what happens in the preview is told by the result.
[[nodiscard]] ProgramEnd run_on_preview(const Preview& preview, const PreviewProgram& program,
                                        const PreviewLimits& limits,
                                        const std::function<void(std::string_view)>& printed,
                                        const std::function<bool()>& stop_asked);

}  // namespace hambrel::os
