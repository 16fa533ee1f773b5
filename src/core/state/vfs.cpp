#include "state/vfs.h"

#include <sqlite3.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <map>
#include <new>
#include <optional>

#include "base/error.h"
#include "os/host.h"

namespace hambrel::state {

namespace {

constexpr std::string_view kJournal = "state-journal", kLog = "state-wal";  // as SQLite names them

/// The state's own file, or its journal, as one connection sees it.
class OpenFile {
 public:
  virtual ~OpenFile() = default;
  virtual std::uint64_t size() = 0;
  /// Fewer bytes only at the end.
  virtual std::size_t read(std::uint64_t offset, std::span<std::byte> into) = 0;
  virtual void write(std::uint64_t offset, std::span<const std::byte> data) = 0;
  virtual void truncate(std::uint64_t size) = 0;
  virtual void sync() = 0;
  virtual void begin_look() {}
};

/// What others wrote to the state while it was looked at.
struct Moved {};

class Changed final : public OpenFile {
 public:
  Changed(os::FileSystem& root, std::string path) : root_(root), path_(std::move(path)) {
    fresh_ = !root_.stat(path_);
    file_ = root_.open_database(path_, 0644);
  }
  std::uint64_t size() override { return file_->size(); }
  std::size_t read(std::uint64_t offset, std::span<std::byte> into) override { return file_->read_at(offset, into); }
  void write(std::uint64_t offset, std::span<const std::byte> data) override { file_->write_at(offset, data); }
  void truncate(std::uint64_t size) override { file_->truncate(size); }
  void sync() override {
    file_->sync();
    if (fresh_) root_.sync_directory(os::parent_of(path_));  // its name, too
    fresh_ = false;
  }

 private:
  os::FileSystem& root_;
  std::string path_;
  std::unique_ptr<os::DatabaseFile> file_;
  bool fresh_ = false;
};

/// A file that is read; what SQLite writes to it stays in memory.
class Looked final : public OpenFile {
 public:
  Looked(os::FileReader& root, const std::string& path, bool watches) : watches_(watches) {
    file_ = root.open_itself(path);
    if (const auto info = file_->info(); info && info->links != 1)
      throw Error(ErrorCode::Untrusted, "is not a regular file with one name", root.shown(path),
                  "look at it with ls -li: somebody put it there; move it away");
    begin_look();
  }
  std::uint64_t size() override { return size_; }
  std::size_t read(std::uint64_t offset, std::span<std::byte> into) override {
    if (offset >= size_) return 0;
    const std::size_t wanted = std::min<std::uint64_t>(into.size(), size_ - offset);
    const std::size_t got = file_->read_at(offset, into.first(wanted));
    std::fill(into.begin() + static_cast<std::ptrdiff_t>(got), into.begin() + static_cast<std::ptrdiff_t>(wanted),
              std::byte{0});
    for (const auto& [at, text] : written_) {
      const std::uint64_t from = std::max(at, offset), to = std::min(at + text.size(), offset + wanted);
      if (from < to) std::memcpy(into.data() + (from - offset), text.data() + (from - at), to - from);
    }
    if (watches_ && !same(file_->info())) throw Moved{};
    return wanted;
  }
  void write(std::uint64_t offset, std::span<const std::byte> data) override {
    written_[offset] = std::string(reinterpret_cast<const char*>(data.data()), data.size());  // pages: all of one size
    size_ = std::max<std::uint64_t>(size_, offset + data.size());
  }
  void truncate(std::uint64_t size) override {
    size_ = size;
    written_.erase(written_.lower_bound(size), written_.end());
  }
  void sync() override {}
  void begin_look() override {
    constexpr int kTick = 5, kMostTicks = 20;  // of the clock by which the kernel stamps files, milliseconds
    written_.clear();
    begun_ = file_->info();
    for (int i = 0; i < kMostTicks && begun_ && is_of_this_tick(*begun_); ++i) {
      os::sleep_milliseconds(kTick);
      begun_ = file_->info();
    }
    size_ = begun_ ? begun_->size : file_->size();
  }

 private:
  /// A change that came now would give it the time that it has already.
  static bool is_of_this_tick(const os::FileInfo& info) {
    const auto [seconds, nanoseconds] = os::file_time();
    return info.mtime_seconds == seconds && info.mtime_nanoseconds >= nanoseconds;
  }
  bool same(const std::optional<os::FileInfo>& now) const {
    if (!now || !begun_) return !now && !begun_;
    return now->size == begun_->size && now->mtime_seconds == begun_->mtime_seconds &&
           now->mtime_nanoseconds == begun_->mtime_nanoseconds;
  }

  std::unique_ptr<os::ReadableFile> file_;
  const bool watches_;
  std::optional<os::FileInfo> begun_;
  std::uint64_t size_ = 0;
  std::map<std::uint64_t, std::string> written_;  // by offset
};

}  // namespace

struct Vfs::Impl {
  Impl(os::FileReader& reader, os::FileSystem* changing, std::string path)
      : root(reader), changed(changing), database(std::move(path)), journal(database + "-journal") {
    static std::atomic<unsigned> count = 0;
    name = "hambrel-" + std::to_string(++count);
    sqlite3_vfs* const standard = sqlite3_vfs_find(nullptr);  // for time and chance
    vfs = *standard;
    vfs.iVersion = 1;
    vfs.zName = name.c_str();
    vfs.pAppData = this;
    vfs.pNext = nullptr;
    vfs.mxPathname = 512;
    vfs.szOsFile = sizeof(File);
    vfs.xOpen = open;
    vfs.xDelete = remove;
    vfs.xAccess = access;
    vfs.xFullPathname = full_name;
    vfs.xDlOpen = nullptr;
    if (sqlite3_vfs_register(&vfs, 0) != SQLITE_OK) throw Error(ErrorCode::Internal, "SQLite takes no VFS", database);
  }
  ~Impl() { sqlite3_vfs_unregister(&vfs); }
  Impl(const Impl&) = delete;
  Impl& operator=(const Impl&) = delete;

  /// What SQLite holds of an open file: it gives the memory.
  struct File {
    sqlite3_file base;
    Impl* owner;
    OpenFile* file;
    int lock;
  };

  static Impl& of(sqlite3_vfs* vfs) { return *static_cast<Impl*>(vfs->pAppData); }
  static File& of(sqlite3_file* file) { return *reinterpret_cast<File*>(file); }

  /// No exception may pass through SQLite.
  template <typename Work>
  int guarded(int otherwise, const Work& work) {
    try {
      return work();
    } catch (const Moved&) {
      was_moved = true;
      return SQLITE_BUSY;
    } catch (const std::bad_alloc&) {
      return SQLITE_IOERR_NOMEM;
    } catch (...) {
      if (!problem) problem = current_error();
      return otherwise;
    }
  }

  static int open(sqlite3_vfs* vfs, const char* given, sqlite3_file* file, int flags, int* out) {
    Impl& self = of(vfs);
    file->pMethods = nullptr;
    const std::string_view what = given == nullptr ? "" : given;
    const bool is_journal = what == kJournal;
    if (!is_journal && what != kDatabase) return SQLITE_CANTOPEN;
    return self.guarded(SQLITE_CANTOPEN, [&] {
      const std::string& path = is_journal ? self.journal : self.database;
      if (is_journal && self.journal_is_over) return SQLITE_CANTOPEN;
      if (is_journal && self.changed == nullptr && !self.root.stat(path)) throw Moved{};
      std::unique_ptr<OpenFile> opened;
      if (self.changed != nullptr)
        opened = std::make_unique<Changed>(*self.changed, path);
      else
        opened = std::make_unique<Looked>(self.root, path, !is_journal);
      of(file).owner = &self;
      of(file).file = opened.release();
      of(file).lock = SQLITE_LOCK_NONE;
      file->pMethods = &kMethods;
      if (out != nullptr) *out = flags;
      return SQLITE_OK;
    });
  }

  static int remove(sqlite3_vfs* vfs, const char* given, int sync) {
    Impl& self = of(vfs);
    if (given != kJournal) return SQLITE_IOERR_DELETE;
    if (self.changed == nullptr) {
      self.journal_is_over = true;
      return SQLITE_OK;
    }
    return self.guarded(SQLITE_IOERR_DELETE, [&] {
      if (!self.root.stat(self.journal)) return SQLITE_IOERR_DELETE_NOENT;
      self.changed->remove_file(self.journal);
      if (sync != 0) self.changed->sync_directory(os::parent_of(self.journal));
      return SQLITE_OK;
    });
  }

  static int access(sqlite3_vfs* vfs, const char* given, int, int* result) {
    Impl& self = of(vfs);
    *result = 0;
    if (given == kLog) return SQLITE_OK;  // there is none
    if (given != kJournal) {
      self.problem = Error(ErrorCode::Untrusted, "names another file, which Hambrel's journals never do",
                           self.root.shown(self.journal), "somebody put it there: move it away");
      return SQLITE_CORRUPT;
    }
    return self.guarded(SQLITE_IOERR_ACCESS, [&] {
      const auto info = self.root.stat(self.journal);
      *result = info && !self.journal_is_over ? 1 : 0;
      return SQLITE_OK;
    });
  }

  static int full_name(sqlite3_vfs*, const char* given, int size, char* out) {
    sqlite3_snprintf(size, out, "%s", given);
    return SQLITE_OK;
  }

  static int close(sqlite3_file* file) {
    delete of(file).file;
    of(file).file = nullptr;
    return SQLITE_OK;
  }
  static int read(sqlite3_file* file, void* to, int size, sqlite3_int64 offset) {
    const auto into = std::span(static_cast<std::byte*>(to), static_cast<std::size_t>(size));
    return of(file).owner->guarded(SQLITE_IOERR_READ, [&] {
      const std::size_t got = of(file).file->read(static_cast<std::uint64_t>(offset), into);
      if (got == into.size()) return SQLITE_OK;
      std::fill(into.begin() + static_cast<std::ptrdiff_t>(got), into.end(), std::byte{0});
      return SQLITE_IOERR_SHORT_READ;
    });
  }
  static int write(sqlite3_file* file, const void* from, int size, sqlite3_int64 offset) {
    const auto data = std::span(static_cast<const std::byte*>(from), static_cast<std::size_t>(size));
    return of(file).owner->guarded(SQLITE_IOERR_WRITE, [&] {
      of(file).file->write(static_cast<std::uint64_t>(offset), data);
      return SQLITE_OK;
    });
  }
  static int truncate(sqlite3_file* file, sqlite3_int64 size) {
    return of(file).owner->guarded(SQLITE_IOERR_TRUNCATE, [&] {
      of(file).file->truncate(static_cast<std::uint64_t>(size));
      return SQLITE_OK;
    });
  }
  static int sync(sqlite3_file* file, int) {
    return of(file).owner->guarded(SQLITE_IOERR_FSYNC, [&] {
      of(file).file->sync();
      return SQLITE_OK;
    });
  }
  static int size(sqlite3_file* file, sqlite3_int64* size) {
    return of(file).owner->guarded(SQLITE_IOERR_FSTAT, [&] {
      *size = static_cast<sqlite3_int64>(of(file).file->size());
      return SQLITE_OK;
    });
  }
  static int lock(sqlite3_file* file, int level) {
    Impl& self = *of(file).owner;
    return self.guarded(SQLITE_IOERR_LOCK, [&] {
      if (of(file).lock == SQLITE_LOCK_NONE && self.changed == nullptr) {
        self.journal_is_over = false;
        of(file).file->begin_look();
      }
      of(file).lock = level;
      return SQLITE_OK;
    });
  }
  static int unlock(sqlite3_file* file, int level) {
    of(file).lock = level;
    return SQLITE_OK;
  }
  static int is_reserved(sqlite3_file*, int* result) {
    *result = 0;
    return SQLITE_OK;
  }
  static int control(sqlite3_file*, int, void*) { return SQLITE_NOTFOUND; }
  static int sector(sqlite3_file*) { return 4096; }
  static int traits(sqlite3_file*) { return SQLITE_IOCAP_POWERSAFE_OVERWRITE; }

  static const sqlite3_io_methods kMethods;

  os::FileReader& root;
  os::FileSystem* changed;  // nullptr: only looks
  const std::string database, journal;
  std::string name;
  std::optional<Error> problem;
  bool journal_is_over = false;  // for who looks: it was taken back in memory
  bool was_moved = false;
  sqlite3_vfs vfs{};
};

const sqlite3_io_methods Vfs::Impl::kMethods{1,       close,   read,        write,   truncate, sync,   size,
                                             lock,    unlock,  is_reserved, control, sector,   traits, nullptr,
                                             nullptr, nullptr, nullptr,     nullptr, nullptr};

Vfs::Vfs(os::FileReader& root, std::string path) : impl_(std::make_unique<Impl>(root, nullptr, std::move(path))) {}
Vfs::Vfs(os::FileSystem& root, std::string path) : impl_(std::make_unique<Impl>(root, &root, std::move(path))) {}
Vfs::~Vfs() = default;
const std::string& Vfs::name() const { return impl_->name; }
bool Vfs::moved() const { return impl_->was_moved; }
const std::optional<Error>& Vfs::problem() const { return impl_->problem; }

}  // namespace hambrel::state
