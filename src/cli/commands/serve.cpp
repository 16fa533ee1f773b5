// serve: hands over to the server, a program beside this one.
#include <fmt/format.h>
#include <unistd.h>

#include "base/text.h"
#include "cli/session.h"
#include "os/host.h"

namespace hambrel::cli {

int run_serve(Session& session, const Arguments& arguments) {
  const auto host = os::open_file_system("/");
  const std::string directory = "/" + os::host_path(arguments.words()[0]);
  const auto info = host->stat_followed(os::host_path(directory));
  if (!info || info->type != os::FileType::Directory)
    throw Error(ErrorCode::NotFound, "the directory does not exist", directory, "check the path");
  std::string server;
  for (const std::string& place : {fmt::format("/{}/hambrel-serve", os::parent_of(os::host_path(os::program_path()))),
                                   std::string(HAMBREL_LIBEXEC_DIR "/hambrel-serve")})
    if (server.empty() && host->stat_followed(os::host_path(place))) server = place;
  if (server.empty())
    throw Error(ErrorCode::NotFound, "the server is not installed", HAMBREL_LIBEXEC_DIR "/hambrel-serve",
                "run `cmake --install` again");
  const std::string address = arguments.value("address").value_or("127.0.0.1");
  const std::string port = arguments.value("port").value_or("8080");
  execl(server.c_str(), server.c_str(), directory.c_str(), address.c_str(), port.c_str(),
        session.quiet() ? "quiet" : nullptr, static_cast<char*>(nullptr));
  throw_errno(errno, "cannot start the server", server);
}

}  // namespace hambrel::cli
