// What a checked table of contents says, as whoever reads a package holds it: its files as one list, which the state
// takes as it is, and where the content of each begins. A third of the memory of the table; copies share the list.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "archive/table.h"
#include "model/file_list.h"

namespace hambrel::archive {

class Contents {
 public:
  Contents() = default;
  /// `table` holds to the invariants (check_table): so the numbers of its entries are those of the list.
  explicit Contents(Table table);
  /// Of a version whose package file need not be there: nothing is known of where its content lies.
  explicit Contents(FileList files) : files_(std::move(files)) {}

  /// Where the content of a regular file begins: this frame, this far into its plain bytes.
  struct Place {
    std::uint32_t frame = 0, offset = 0;
  };

  const FileList& files() const { return files_; }
  std::size_t size() const { return files_.size(); }
  Entry entry(std::size_t number) const;
  Place place(std::size_t number) const { return places_[number]; }
  const std::vector<Frame>& frames() const { return frames_; }
  std::uint64_t manifest_offset() const { return manifest_offset_; }
  std::uint64_t manifest_size() const { return manifest_size_; }

 private:
  std::vector<Frame> frames_;
  std::uint64_t manifest_offset_ = 0, manifest_size_ = 0;
  FileList files_;
  std::vector<Place> places_;  // by number of the file
};

/// Paths of the files that run with another's rights: with a set-id bit or a capability. Ascending.
std::vector<std::string> privileged_files(const FileList& files);
/// Throws Error{Untrusted} for one that the manifest does not name: what an index tells must be all there is to know.
void require_named_privileges(const FileList& files, const Package& package, const std::string& where);

}  // namespace hambrel::archive
