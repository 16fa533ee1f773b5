// The processes of this machine, as /proc tells of them (https://docs.kernel.org/filesystems/proc.html).
#pragma once

#include <cstdint>
#include <set>
#include <string>
#include <vector>

namespace hambrel::os {

struct Process {
  int id = 0, parent = 0;
  std::string name{};                // as the kernel keeps it, at most 15 bytes
  std::uint32_t user = 0;            // its effective one
  std::string program{};             // the path of what it runs, as we see it; empty where that can't be seen
  std::set<std::string> replaced{};  // files that it has mapped and that are not under their path any more
};

/// All that can be seen. `with_files`: also what each has mapped, which takes a moment. A file counts as replaced where
/// the kernel calls it deleted or where its path now lies below `attic`.
[[nodiscard]] std::vector<Process> processes(bool with_files, const std::string& attic);

/// Of a control group, as a service manager names it: "/system.slice/NAME.service".
[[nodiscard]] std::vector<int> processes_of_group(const std::string& group);

/// A small file of the running system; empty where there is none.
[[nodiscard]] std::string system_text(const std::string& path);
[[nodiscard]] bool is_system_directory(const std::string& path);

/// Is this directory the root of this process?
[[nodiscard]] bool is_own_root(const std::string& path);

/// The name of a user of this machine, or its number.
[[nodiscard]] std::string user_name_of(std::uint32_t user);

}  // namespace hambrel::os
