#include "os/label_policy.h"

#include <fmt/format.h>
#include <sys/mman.h>
#include <sys/stat.h>

#include <mutex>
#include <span>

#include "base/error.h"
#include "base/selinux_library.h"
#include "os/posix_handles.h"

namespace hambrel::os {

struct LabelPolicy::Loaded {
  const SelinuxLibrary& library = selinux_library();
  selabel_handle* handle = nullptr;
  std::mutex guard;
  ~Loaded() {
    if (handle != nullptr) library.close(handle);
  }
};

/// The library reads a file by its name: it gets one in memory, so that it opens nothing in the root.
LabelPolicy::LabelPolicy(const std::string& contexts) : loaded_(std::make_unique<Loaded>()) {
  constexpr const char* name = "file_contexts";
  Handle memory(::memfd_create(name, MFD_CLOEXEC));
  if (memory.get() < 0) throw_errno(errno, "cannot be kept in memory", name);
  const std::string path = fmt::format("/proc/self/fd/{}", memory.get());
  PosixDatabaseFile file(std::move(memory), name);
  file.write_at(0, std::as_bytes(std::span(contexts)));
  const selinux_opt option{SELABEL_OPT_PATH, path.c_str()};
  loaded_->handle = loaded_->library.open(SELABEL_CTX_FILE, &option, 1);
  if (loaded_->handle == nullptr)
    throw Error(ErrorCode::Invalid, "the labels of the policy can't be read", name, "restore the policy's files");
}

LabelPolicy::~LabelPolicy() = default;

std::string LabelPolicy::look_up(const std::string& path, FileType type) {
  mode_t mode = S_IFREG;
  if (type == FileType::Directory) mode = S_IFDIR;
  if (type == FileType::Symlink) mode = S_IFLNK;
  const std::lock_guard lock(loaded_->guard);
  char* found = nullptr;
  if (loaded_->library.lookup_raw(loaded_->handle, &found, path.c_str(), static_cast<int>(mode)) != 0) return "";
  std::string label(found);
  loaded_->library.freecon(found);
  return label;
}

}  // namespace hambrel::os
