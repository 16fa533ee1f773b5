// What lies in directories, looked at by a thread of its own while the state is asked whose it is. Which of the answers
// matter is known only then.
//
// Invariants: it only looks; an answer is what the disk says at some moment between the construction and stop(). It
// must not be kept across a question to the administrator: minutes may pass there.
#pragma once

#include <atomic>
#include <functional>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/parallel.h"
#include "base/shared_text.h"
#include "os/file_system.h"

namespace hambrel::txn {

class DirectoriesAhead {
 public:
  using Entries = std::vector<os::DirectoryReader::Entry>;

  /// Looks into these, and all below them. What is no directory, or a link, is passed over.
  DirectoriesAhead(os::FileReader& root, std::vector<SharedText> tops);
  ~DirectoriesAhead();
  DirectoriesAhead(const DirectoriesAhead&) = delete;
  DirectoriesAhead& operator=(const DirectoriesAhead&) = delete;

  /// What was not looked into by now is left.
  void stop();
  /// After that: null where it was not looked into.
  const Entries* in(const std::string& path) const;
  /// After that: is all that lies in a directory, and below it, fine? Paths that `surely` does not know, which several
  /// threads are asked at once, `perhaps` is asked by this one. False if it is no directory any more.
  bool all_below(const std::string& top, const std::function<bool(std::string_view)>& surely,
                 const std::function<bool(const std::string&)>& perhaps) const;

 private:
  void look();
  void look_below(const std::string& top);
  struct Found;
  void look_into(const std::string& path, const std::function<bool(std::string_view)>& surely, Found& found) const;

  os::FileReader& root_;
  std::vector<SharedText> tops_;
  std::unordered_map<std::string, Entries> found_;
  std::size_t names_ = 0;  // in them
  std::atomic<bool> enough_ = false;
  Aside<void> other_;
};

}  // namespace hambrel::txn
