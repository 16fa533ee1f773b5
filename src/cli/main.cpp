#include <csignal>
#include <string>
#include <vector>

#include "cli/command.h"
#include "os/host.h"

int main(int argc, char** argv) {
  std::signal(SIGPIPE, SIG_DFL);  // `hambrel list | head` ends quietly
  hambrel::os::set_up_process();
  return hambrel::cli::run_program(std::vector<std::string>(argv + 1, argv + argc));
}
