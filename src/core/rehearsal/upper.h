// What programs wrote on a preview: the upper layer of its overlay, compared with what they found.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "os/file_system.h"
#include "rehearsal/view.h"

namespace hambrel::rehearsal {

struct Written {
  enum class Kind {
    File,        // new, or another one than before; also a symbolic link
    Directory,   // new
    Attributes,  // of a directory that was there
    Gone,        // what was there is not any more; of a directory all that is in it
    Strange      // neither file, directory nor link: a device, a pipe, a socket
  };
  Kind kind = Kind::File;
  std::string path;   // relative to the root
  std::string place;  // where it lies, relative to the root; of Gone: nothing of use
  os::FileInfo info;
};

class Upper {
 public:
  /// `place`: the upper layer over a view, relative to the root.
  Upper(os::FileSystem& root, const View& view, std::string place)
      : root_(root), view_(view), place_(std::move(place)) {}

  /// All that differs from what was there before anything ran, by path: directories before what is in them.
  std::vector<Written> all() const;
  const std::string& place() const { return place_; }

 private:
  void look(const std::string& path, const std::string& place, bool all_new, std::vector<Written>& found) const;
  void look_at_directory(const std::string& path, const std::string& place, const os::FileInfo& info, bool all_new,
                         std::vector<Written>& found) const;
  bool is_unchanged(const std::string& path, const std::string& place, const os::FileInfo& info) const;
  std::vector<std::string> names_before(const std::string& path) const;

  os::FileSystem& root_;
  const View& view_;
  const std::string place_;
};

/// What an overlay has put on something of its upper layer, removed from it and all that is below.
void remove_marks(os::FileSystem& root, const std::string& place);

}  // namespace hambrel::rehearsal
