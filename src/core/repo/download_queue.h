// Package files on their way into the cache of a root, read while they come.
//
//   part file: nothing --bytes arrive--> growing --all there, digest right--> whole --settle()--> its name in the cache
//                                        growing --a connection breaks--> growing, a few times, from any mirror
//                                        growing --digest wrong, another mirror is left--> nothing
//                                        growing --network, stop--> stays: the next try goes on from there
//                                        growing --digest wrong, no room, spoil()--> removed
//
// Of a file of which only ranges are wanted each one has a part file, which never gets a name: it goes with
// drop_ranges(), or is what the next try goes on from.
//
// Invariants
//   - only what was written to the part file is handed out; a read of later bytes waits for them, and throws the
//     transfer's problem where they do not come
//   - a file has its name in the cache only after its size and SHA-256 were seen to be what the index names
//   - the fetching thread ends before the object does; it touches part files and their directories, nothing else, and
//   tells no observer
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <thread>
#include <vector>

#include "base/observer.h"
#include "repo/download.h"
#include "repo/transfer.h"

namespace hambrel::repo {

class DownloadQueue {
 public:
  /// Begins to fetch what the cache does not have, some files at a time. `stop_asked` is asked by every
  /// thread that waits; true ends waiting with Error{Declined}. Throws Error{NotFound} for a repository that is gone.
  DownloadQueue(
      os::FileSystem& root, Network& network, const std::vector<PackageToFetch>& wanted,
      const std::vector<settings::Repository>& repositories, std::function<bool()> stop_asked = [] { return false; });
  /// Stops what is under way; what is whole gets its name.
  ~DownloadQueue();
  DownloadQueue(const DownloadQueue&) = delete;
  DownloadQueue& operator=(const DownloadQueue&) = delete;

  /// Was everything in the cache?
  bool none() const { return files_.empty(); }
  /// Bytes that are to be fetched: of files that are on their way, without what an earlier try has left.
  ByteCount bytes() const { return bytes_; }
  /// Bytes that were fetched so far.
  ByteCount fetched() const;
  /// Where it comes from, if it is on its way.
  const std::string* url_of(const Package& package) const;
  /// A file on its way. It may be read from any thread, also after this object's end.
  std::unique_ptr<os::ReadableFile> open(const Package& package) const;
  /// Waits until all are whole and gives them their names. Returns the bytes that were fetched. Throws the first
  /// problem, in the order in which they were wanted, after all transfers have ended; of the disk at once.
  /// The next sync of the file system brings them to the disk.
  ByteCount settle(Observer& observer);
  /// What was fetched in ranges is of no use any more: nothing of it stays.
  void drop_ranges();
  /// What comes from there turned out not to be the file: nothing of it is kept for a next try, and nothing more comes.
  /// Returns whether another one may be worth it: it went on from what an earlier try had left, or there is a mirror,
  /// perhaps one that was being asked already.
  bool spoil(const std::string& url);

 private:
  class File;
  class Reader;
  void fetch(const std::function<bool()>& stop);

  os::FileSystem& root_;
  Network& network_;
  std::function<bool()> stop_asked_;
  std::vector<std::shared_ptr<File>> files_;
  // Of the fetching thread: what it asks for, and for which file.
  std::vector<Request> requests_;
  std::vector<const File*> asked_;
  std::map<std::string, std::size_t> by_path_;
  ByteCount bytes_ = 0;
  std::jthread thread_;
};

}  // namespace hambrel::repo
