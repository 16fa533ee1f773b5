// The system calls that a program on a preview may not make (seccomp,
// https://docs.kernel.org/userspace-api/seccomp_filter.html).
#pragma once

namespace hambrel::os::child {

/// For this process and all that it starts: what makes namespaces, mounts, traces, loads, reaches the kernel's keys or
/// opens files by handle fails with EPERM. False with errno where the kernel does not have such filters.
[[nodiscard]] bool install_filter();

}  // namespace hambrel::os::child
