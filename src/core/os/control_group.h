// A control group of the kernel (https://docs.kernel.org/admin-guide/cgroup-v2.html) for what a preview runs: a limit
// of processes and of memory that holds for all of them together, whatever they take memory for.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace hambrel::os {

/// Not every machine lets us make one: containers often do not, and whoever is not root may not. Then it is of no
/// effect.
class ControlGroup {
 public:
  /// `memory` in bytes. `only_limit_of_tasks`: nothing else limits them. Where something does, the first version of the
  /// interface is left alone: to move a process there takes longer (13 ms) than many a program.
  ControlGroup(unsigned tasks, std::uint64_t memory, bool only_limit_of_tasks);
  ~ControlGroup();
  ControlGroup(const ControlGroup&) = delete;
  ControlGroup& operator=(const ControlGroup&) = delete;

  /// Puts a process into it, with all that it starts from here on.
  void take(pid_t process) const;

  /// If the kernel ended one of them as there was no memory left for it.
  bool ran_out_of_memory() const;

 private:
  struct Part {
    std::string directory;
    std::string events;  // the file of it that counts who was ended for want of memory; empty: none
  };
  /// Makes a group below `parent` and writes what its files are to hold.
  void add(const std::string& parent, const std::vector<std::pair<std::string, std::string>>& files,
           const std::string& events);

  std::vector<Part> parts_;
};

}  // namespace hambrel::os
