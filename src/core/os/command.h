// A program of this machine, run to its end: what service managers are asked with, and checks of services.
#pragma once

#include <functional>
#include <string>
#include <vector>

namespace hambrel::os {

struct CommandEnd {
  bool started = false;    // else `problem` says why not
  bool timed_out = false;  // it was ended
  int code = 0;            // what it returned; of a signal as a shell has it: 128 and more
  std::string problem{};
  std::string output{};  // the last 64 KiB of what it printed, both streams together
  bool succeeded() const { return started && !timed_out && code == 0; }
};

/// `words`: the first is an absolute path, or a name that is looked for in the usual directories of the system. It has
/// an environment of its own (PATH, LANG=C.UTF-8 and `more`, each NAME=VALUE), nothing to read, no terminal, and this
/// many seconds. What it leaves running goes on where it ended by itself. Throws Error{Io} for want of pipes.
[[nodiscard]] CommandEnd run_command(const std::vector<std::string>& words, unsigned seconds,
                                     const std::vector<std::string>& more = {});

/// Where run_command() would find a name; empty: nowhere.
[[nodiscard]] std::string find_program(const std::string& name);

}  // namespace hambrel::os
