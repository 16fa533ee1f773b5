// The files of one package as the state keeps them, and as whatever plans and carries out a change holds them: one
// value, by path, entered anywhere without being decoded. Copies share it.
//
// Layout, little-endian: head of 16 bytes (layout 1, number of files, number of owners, 0; 4 bytes each)
//   | a record of 72 bytes for each file | 8 bytes for each pair of owners | texts
// A record: 4 start of its texts, 2 length of the path, 2 of the target, 4 of the attributes, 4 number of its owners,
//   2 mode, 1 type, 1 whether it is configuration, 4 zero, 8 mtime, 8 size, 32 SHA-256.
// A pair of owners: 4 start of its texts, 2 length of the user's name, 2 of the group's. Texts follow one another.
// Invariants: paths ascend by bytes, none twice; nothing is read outside of the bytes, whatever they are.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/file_entry.h"

namespace hambrel {

class FileList {
 public:
  FileList() = default;  // of no files
  /// Throws Error{Untrusted} naming `where` if the bytes are no list; none at all are a list of no files.
  FileList(std::string bytes, std::string where);
  /// Encodes; `at(i)` is any of `count` entries, in any order.
  static FileList of(std::size_t count, const std::function<const FileEntry&(std::size_t)>& at);
  template <typename Entries>
  static FileList of(const Entries& entries) {
    return of(entries.size(), [&](std::size_t i) -> const FileEntry& { return entries[i]; });
  }

  /// Of some of these files, by their numbers.
  FileList only(const std::vector<std::size_t>& numbers) const;

  std::size_t size() const { return count_; }
  const std::string& bytes() const { return *bytes_; }
  std::string_view path(std::size_t i) const;
  EntryType type(std::size_t i) const;
  bool config(std::size_t i) const;
  std::uint64_t content_size(std::size_t i) const;  // bytes
  Digest digest(std::size_t i) const;
  std::string_view target(std::size_t i) const;
  std::string_view group(std::size_t i) const;
  bool has_attributes(std::size_t i) const;
  /// What can be seen of a file without reading it; valid as long as the list.
  struct Facts {
    EntryType type;
    std::uint32_t mode;
    std::int64_t mtime;
    std::uint64_t size;
    std::string_view target;
  };
  Facts facts(std::size_t i) const;
  FileEntry entry(std::size_t i) const;
  std::vector<FileEntry> entries() const;
  std::optional<std::size_t> find(std::string_view path) const;
  /// Does the file differ in nothing but, at most, being configuration, or the time of a directory?
  bool same(std::size_t i, const FileEntry& other) const;
  bool same(std::size_t i, const FileList& other, std::size_t j) const;

  /// By number in each list: the files that are not the same in both (time of a directory aside), and of those that
  /// are, configuration and hard-linked ones, which nobody may pass over.
  struct Differences {
    std::vector<std::size_t> before, after;
  };
  static Differences differences(const FileList& before, const FileList& after);

 private:
  static const std::shared_ptr<const std::string>& none();
  struct Record;
  struct Owners;
  Record record(std::size_t i) const;
  std::string_view text(std::size_t start, std::size_t size) const;
  std::pair<std::string_view, std::string_view> owners(const Record& record) const;

  std::shared_ptr<const std::string> bytes_ = none();  // copies share them
  std::string where_;
  std::size_t count_ = 0, owners_ = 0;
};

}  // namespace hambrel
