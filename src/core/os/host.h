// Facts about the machine and the process, gathered in one place so that the core can be given others in tests.
#pragma once

#include <cstdint>
#include <string>

namespace hambrel::os {

std::string machine_architecture();  // as the kernel names it: x86_64, aarch64, ...
bool is_superuser();
/// Who gave the command: the login name; behind a privilege switch "name (as root)".
std::string user_name();
int process_id();
unsigned processors();  // that this process may use, at least 1
/// Seconds since 1970, UTC. SOURCE_DATE_EPOCH is not looked at.
std::int64_t now();
/// Milliseconds of a clock that never jumps.
std::int64_t monotonic_milliseconds();
/// SOURCE_DATE_EPOCH if it is set to a whole number, else `otherwise`.
std::int64_t source_date_epoch(std::int64_t otherwise);
void sleep_milliseconds(int milliseconds);
/// Freed memory stays with the process, to be used again without being cleared by the kernel anew.
void keep_freed_memory();
/// Absolute path of the running program, empty if the kernel does not tell.
std::string program_path();
/// Ends this process at once with SIGKILL, as a power cut would: only the fault points of tests call it.
[[noreturn]] void test_only_die();

}  // namespace hambrel::os
