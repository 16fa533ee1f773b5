// A directory of packages that is published, and a root that is refreshed from it.
#pragma once

#include <gtest/gtest.h>

#include "repo/index.h"
#include "repo/publish.h"
#include "repo/refresh.h"
#include "support/program.h"
#include "txn/workshop.h"

namespace hambrel::repo {

class Publishing : public testing::Test {
 protected:
  void put(const std::string& name, const std::string& version, const std::string& at = "") {
    const test::Goods made = test::goods(name, version, {{"usr/bin/" + name, version}});
    test::write_file(directory / (at.empty() ? package_path(made.package) : at), made.content);
  }
  Published publish() { return repo::publish(*os::open_file_system(directory.text()), 1'750'000'000, silent); }
  std::vector<RefreshResult> refresh() {
    const std::vector<settings::Repository> all{{"base", "file://" + directory.text(), {"stable"}, true, 50, "", true}};
    return repo::refresh(*os::open_file_system(root.text()), network, all, all, 1000, silent);
  }
  /// Where the cache of the root has its index; below the root's directory of indexes.
  std::string cached_index() {
    for (const auto& one : std::filesystem::directory_iterator(root / "var/cache/hambrel/index/base"))
      if (one.path().string().ends_with(".jsonl.zst")) return "base/" + one.path().filename().string();
    return "none";
  }
  test::TempDir directory, root;
  Network network{2};
  Observer silent;
};

}  // namespace hambrel::repo
