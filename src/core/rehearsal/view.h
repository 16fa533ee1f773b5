// A change as a layer of an overlay: a directory in which what is staged stands under its final path.
//
// Nothing is copied: files are further names of the staged ones, a directory that is staged as a whole is named by a
// mark, others are made with the attributes of those that they stand for, and what goes is a whiteout. It lies in the
// transaction's own directory and is dropped with it.
#pragma once

#include <string>
#include <string_view>
#include <unordered_set>
#include <vector>

#include "base/text_map.h"
#include "os/file_system.h"
#include "os/neighbours.h"
#include "state/records.h"

namespace hambrel::rehearsal {

/// Attributes by which an overlay marks what lies in its layers begin so.
std::string_view overlay_marks();  // depends on the rights of this process

class View {
 public:
  /// Over what is mounted at `top` of the root; in the new directory `place`. Both relative to the root.
  View(os::FileSystem& root, std::string top, std::string place);

  /// A move that is going to be done, with where what it brings lies. In the order of the moves.
  void add(const state::Move& move, const std::string& staged);
  /// A directory that is mounted on: made where the root has none.
  void need_directory(std::string_view path);

  /// What stands at a path then, the view over what is there; the same of its content. Paths are relative to the root.
  std::optional<os::FileInfo> stat(std::string_view path) const;
  /// Where that lies, relative to the root; nothing: nowhere.
  std::optional<std::string> place_of(std::string_view path) const;
  const std::string& top() const { return top_; }
  const std::string& place() const { return place_; }

 private:
  std::string in_view(std::string_view path) const;
  void make_parents(std::string_view path);
  void make_directory(std::string_view path);
  void put(const std::string& staged, const std::string& path);
  void put_directory(const std::string& staged, const std::string& path, const os::FileInfo& info);
  void hide(const std::string& path);
  std::string physical(std::string_view path);

  os::FileSystem& root_;
  const std::string top_, place_;
  std::unordered_set<std::string, TextHash, std::equal_to<>> made_;  // directories, relative to the root
  std::unordered_set<std::string, TextHash, std::equal_to<>> put_;   // what else stands in the view
  TextMap<std::string> whole_;  // directories that show all of a staged one, and where that lies
  std::string asked_, answer_;  // what physical() was asked last: most moves are in the directory of the one before
  os::LastDirectory in_stage_, in_view_;
};

}  // namespace hambrel::rehearsal
