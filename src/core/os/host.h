// Facts about the machine and the process, gathered in one place so that the core can be given others in tests.
#pragma once

#include <cstdint>
#include <string>
#include <utility>

namespace hambrel::os {

std::string machine_architecture();  // as the kernel names it: x86_64, aarch64, ...
bool is_superuser();
/// What this machine is called; empty if the kernel does not tell.
std::string host_name();
unsigned user_id();  // that it acts as
/// Who gave the command: the login name; behind a privilege switch "name (as root)".
std::string user_name();
int process_id();
unsigned processors();  // that this process may use, at least 1
/// Files and connections that it may have open at a time.
unsigned most_open_files();
/// Seconds since 1970, UTC. SOURCE_DATE_EPOCH is not looked at.
std::int64_t now();
/// What is local time is UTC from now on, in this process.
void use_utc();
/// Seconds and nanoseconds that a file written just now would be stamped with: the kernel's coarse clock.
std::pair<std::int64_t, std::int64_t> file_time();
/// Milliseconds of a clock that never jumps.
std::int64_t monotonic_milliseconds();
/// Where this user keeps what can be made again: XDG_CACHE_HOME, else .cache of the home directory. Empty: nowhere.
std::string own_cache_directory();
/// SOURCE_DATE_EPOCH if it is set to a whole number, else `otherwise`.
std::int64_t source_date_epoch(std::int64_t otherwise);
void sleep_milliseconds(int milliseconds);
/// To be called once, first of all. What the program makes has the modes that it was given, whatever umask the caller
/// has; descriptors 0 to 2 that are closed become /dev/null, so that no file that is opened later is taken for one of
/// them (writing to them still fails); freed memory stays with the process, to be used again without being cleared.
void set_up_process();
/// About so many bytes are going to be needed: they are asked for at once, in large pages where the system has them.
/// Page by page it takes a tenth of a large upgrade. Without set_up_process() it does nothing.
void expect_memory(std::size_t bytes);
/// What was freed goes back to the system: before something long that needs little. It takes some milliseconds.
void give_memory_back();
/// Absolute path of the running program, empty if the kernel does not tell.
std::string program_path();
/// Ends this process at once with SIGKILL, as a power cut would: only the fault points of tests call it.
[[noreturn]] void test_only_die();

}  // namespace hambrel::os
