// The inside of a preview: what the first process of its namespaces does, until the program is over.
//
// It begins as a copy of a program with several threads: from the clone on it makes system calls and touches memory
// that was made ready before, and nothing else. No allocation, no lock, no C++ library.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

namespace hambrel::os::child {

/// What went wrong, for the parent: the last thing that is written to its pipe.
enum class Step : int {
  None,
  Identity,
  Private,
  Overlay,
  Tmpfs,
  Proc,
  Devices,
  Enter,
  Place,
  Script,
  Rights,
  Start,
  TooMany,
  TooLarge
};
struct Report {
  Step step = Step::None;
  int problem = 0;  // errno
};

struct Layer {
  const char* at = nullptr;     // absolute, in the preview
  const char* shown = nullptr;  // a name of its own, for the work
  // directories of the host; null: none. Only `lower`: it is bound as it is, to be read.
  const char *lower = nullptr, *view = nullptr, *upper = nullptr, *work = nullptr;
  bool writable = false;  // it is bound to be written to
  bool in_run = false;    // its place is made in /run
};

struct Plan {
  std::vector<Layer> layers;
  std::vector<const char*> hidden;  // absolute, in the preview
  const char* merged = nullptr;
  const char* script = nullptr;  // its text; null: none
  std::size_t script_size = 0;
  std::vector<char*> words, environment;  // each with a null at the end
  unsigned processes = 0;
  // the kernel's own limit, as text for its pid_max; null: it has one for the whole machine only
  const char* own_numbers = nullptr;
  int nice = 0;
  std::uint64_t memory = 0, disk = 0;
  const char* directory = nullptr;  // null: the root
  bool on_terminal = false;         // standard input and outputs stay
  unsigned user = 0;                // and group, in the namespace; not 0: without any right of root
  bool own_users = false;           // in a user namespace, for whoever is not root
  const char* uid_map = nullptr;
  const char* gid_map = nullptr;
  int report = -1, output = -1, start = -1;  // descriptors: written to, written to, read from
  int starter = -1;                          // the other end of `start`, which the parent holds
};

/// Never returns: ends with the code of the program, or of its signal as a shell has it.
[[noreturn]] void run(const Plan& plan);

}  // namespace hambrel::os::child
