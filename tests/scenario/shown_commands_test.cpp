// Every command that the program shows can be pasted: it names the root that it was shown for, and it is one.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <regex>
#include <set>

#include "scenario/station.h"

namespace hambrel::test {

namespace {

/// Commands in a text: in backticks, or after "first: ", "again: ", "Next: " and the like up to the end of the line.
std::set<std::string> commands_in(const std::string& text) {
  std::set<std::string> found;
  const std::regex quoted("`(hambrel [^`]*)`"), told(": (hambrel [^`\n]*)"), way("(?:^|\n)  [0-9]  (hambrel [^\n]*)");
  for (const std::regex& one : {quoted, told, way})
    for (auto at = std::sregex_iterator(text.begin(), text.end(), one); at != std::sregex_iterator(); ++at)
      found.insert((*at)[1]);
  return found;
}

}  // namespace

TEST(ShownCommands, NameTheRootAndCanBeRun) {
  Station station;
  station.pack("lib", "1-1", "", {{"usr/lib/l", "one"}});
  station.pack("lib", "2-1", "", {{"usr/lib/l", "two"}});
  station.pack("desk", "1-1", "[relations]\nrequires = [\"lib < 2\"]\n[config]\nfiles = [\"etc/*\"]\n",
               {{"usr/bin/desk", "d"}, {"etc/desk", "1\n"}});
  station.pack("lamp", "1-1", "[relations]\nconflicts = [\"desk\"]\n", {{"usr/bin/lamp", "l"}});
  std::string all =
      station.hambrel({"repo", "add", "base", "file://" + station.repository().string(), "--unsigned"}).out;
  station.publish();
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"list", "available"},
                                             {"install", "lib", "-y"},
                                             {"undo", "9", "-y"},
                                             {"refresh"},
                                             {"install", "nothing", "-y"},
                                             {"install", "desk", "-y"},
                                             {"install", "lamp", "-y"},
                                             {"install", "lib=2", "-y"},
                                             {"upgrade"},
                                             {"hold", "lib", "-y", "--reason", "it's && hambrel remove desk"},
                                             {"upgrade", "-y"},
                                             {"undo", "1", "-y"},
                                             {"rollback", "never", "-y"},
                                             {"downgrade", "desk", "-y"},
                                             {"redo", "1", "-y"},
                                             {"ledger", "show", "77"},
                                             {"checkpoint", "make", "calm"},
                                             {"checkpoint", "make", "calm"},
                                             {"checkpoint", "drop", "storm", "-y"},
                                             {"shelve", "lib", "-y"},
                                             {"unshelve", "lib", "-y"},
                                             {"repo", "drop", "nobody"},
                                             {"refresh", "nobody"},
                                             {"remove", "desk", "-n"},
                                             {"activate", "-y"},
                                             {"configs", "diff", "/etc/none"},
                                             {"tidy"},
                                             {"why", "lamp"},
                                             {"repair", "--rebuild", "-n"},
                                             {"install", "lib", "--frob"},
                                             {"list", "frob"},
                                             {"verify"}}) {
    const Ran ran = station.hambrel(words);
    all += ran.out + "\n" + ran.err + "\n";
  }
  const auto commands = commands_in(all);
  EXPECT_GT(commands.size(), 12U);
  const fs::path bin = station.path("bin");
  fs::create_directories(bin);
  fs::create_symlink(HAMBREL_PROGRAM, bin / "hambrel");
  const std::set<std::string> placeholders{"N", "NAME", "NAME=VERSION", "SPEC", "SPEC...", "SECONDS", "[SPEC...]"};
  for (const std::string& command : commands) {
    bool example = command.starts_with("hambrel help");
    std::istringstream words(command);
    for (std::string word; words >> word;) example = example || placeholders.contains(word);
    if (command.starts_with("hambrel install") && !example && command.find(" --root ") == std::string::npos)
      example = all.find("`" + command + "` has no option") != std::string::npos;
    if (example) continue;
    EXPECT_NE(command.find(" --root " + station.root().string()), std::string::npos) << command;
    const Ran ran = run({"sh", "-c", command + " </dev/null"}, {{"PATH", bin.string() + ":/usr/bin:/bin"}});
    EXPECT_NE(ran.code, 2) << command << "\n" << ran.err;
    EXPECT_LT(ran.code, 12) << command << "\n" << ran.err;
  }
}

}  // namespace hambrel::test
