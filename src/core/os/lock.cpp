#include "os/lock.h"

#include "base/error.h"
#include "base/text.h"
#include "os/host.h"

namespace hambrel::os {

namespace {

class FileLock final : public Lock {
 public:
  FileLock(std::unique_ptr<DatabaseFile> file, bool says_who) : file_(std::move(file)), says_who_(says_who) {}
  ~FileLock() override {
    if (!says_who_) return;
    try {
      file_->truncate(0);     // so that nobody is told of a holder that is gone
    } catch (const Error&) {  // the lock goes with the file all the same; its text is only for a message
    }
  }
  FileLock(const FileLock&) = delete;
  FileLock& operator=(const FileLock&) = delete;

 private:
  std::unique_ptr<DatabaseFile> file_;
  bool says_who_;
};

std::string holder(DatabaseFile& file) {
  std::string text(512, '\0');
  text.resize(file.read_at(0, std::as_writable_bytes(std::span(text))));
  const std::string shown = printable(trim(text));
  return shown.empty() ? "another run" : shown;
}

/// A directory that only its owner enters, whatever it was before.
void make_private(FileSystem& root, std::string_view directory) {
  constexpr std::uint32_t kOwnerOnly = 0700;
  root.make_directories(parent_of(directory));
  const auto there = root.stat(directory);
  if (!there) root.make_if_missing(directory, kOwnerOnly);
  if (there && there->type == FileType::Directory && there->mode != kOwnerOnly) root.set_mode(directory, kOwnerOnly);
}

}  // namespace

std::unique_ptr<Lock> take_lock(FileSystem& root, const std::string& path, int wait_seconds,
                                const std::string& describe) {
  constexpr int kLookAgain = 50;  // milliseconds
  make_private(root, parent_of(path));
  auto file = root.open_database(path, 0600);
  const std::int64_t until = monotonic_milliseconds() + 1000LL * wait_seconds;
  while (!file->try_lock()) {
    if (monotonic_milliseconds() >= until)
      throw Error(ErrorCode::Locked, "this root is being changed by " + holder(*file), root.shown(path),
                  wait_seconds > 0 ? "timed out waiting for the lock; try again later"
                                   : "wait for it to end, or give --wait SECONDS");
    sleep_milliseconds(kLookAgain);
  }
  if (!describe.empty()) {
    file->truncate(0);
    const std::string text = describe + "\n";
    file->write_at(0, std::as_bytes(std::span(text)));
  }
  return std::make_unique<FileLock>(std::move(file), !describe.empty());
}

std::unique_ptr<Lock> take_account_lock(FileSystem& root, int wait_seconds) {
  constexpr const char* kPath = "etc/.pwd.lock";
  constexpr int kLookAgain = 50;  // milliseconds
  const auto info = root.stat(kPath);
  if (!info || info->type != FileType::Regular) return nullptr;
  auto file = root.open_database(kPath, 0600);
  const std::int64_t until = monotonic_milliseconds() + 1000LL * wait_seconds;
  while (!file->try_record_lock()) {
    if (monotonic_milliseconds() >= until)
      throw Error(ErrorCode::Locked, "another program is changing accounts", root.shown(kPath),
                  "nothing was changed; run the command again when it has ended");
    sleep_milliseconds(kLookAgain);
  }
  return std::make_unique<FileLock>(std::move(file), false);
}

}  // namespace hambrel::os
