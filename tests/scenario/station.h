// A signal station for scenario tests: a root, a repository of small packages, and the built program.
#pragma once

#include <nlohmann/json.hpp>

#include "support/program.h"

namespace hambrel::test {

class Station {
 public:
  Station() {
    fs::create_directories(root() / "var/lib/hambrel");
    fs::create_directories(root() / "var/cache");
    fs::create_directories(root() / "etc/hambrel");
  }

  fs::path root() const { return directory_ / "root"; }
  fs::path repository() const { return directory_ / "repository"; }
  fs::path path(const std::string& name) const { return directory_ / name; }

  Ran hambrel(std::vector<std::string> words, const std::map<std::string, std::string>& environment = {}) const {
    words.insert(words.begin(), {HAMBREL_PROGRAM, "--root", root().string()});
    return run(words, environment);
  }

  /// A text without the root that each command in it names.
  std::string without_root(std::string text) const {
    const std::string root_option = " --root " + root().string();
    for (auto at = text.find(root_option); at != std::string::npos; at = text.find(root_option))
      text.erase(at, root_option.size());
    return text;
  }

  /// On a terminal, where each question is answered by the next of the answers, which '|' separates.
  Ran on_terminal(const std::string& answers, std::vector<std::string> words,
                  const std::map<std::string, std::string>& environment = {}) const {
    words.insert(words.begin(), {"python3", HAMBREL_SOURCE "/tests/scenario/on_terminal.py", answers, HAMBREL_PROGRAM,
                                 "--root", root().string()});
    return run(words, environment);
  }

  /// Packs "NAME-VERSION" with the given lines of TOML after the summary and files (path -> content).
  std::string pack(const std::string& name, const std::string& version, const std::string& toml,
                   const std::map<std::string, std::string>& files, const std::string& to = "") const {
    const fs::path source = directory_ / ("src-" + name + "-" + version);
    fs::create_directories(source / "root");
    write_file(source / "package.toml", "name = \"" + name + "\"\nversion = \"" + version +
                                            "\"\narch = \"independent\"\nsummary = \"" + name + "\"\n" + toml);
    for (const auto& [path, content] : files) write_file(source / "root" / path, content);
    set_times(source / "root", 1'700'000'000);
    const fs::path file =
        to.empty() ? repository() / "packages" / name / (version + ".independent.hambrel") : fs::path(to);
    fs::create_directories(file.parent_path());
    const Ran ran = run({HAMBREL_PROGRAM, "pack", "-q", source.string(), "-o", file.string()});
    if (ran.code != 0) throw std::runtime_error(ran.err);
    return file.string();
  }

  Ran publish() const { return run({HAMBREL_PROGRAM, "publish", repository().string()}); }
  /// Publishes, adds the repository and refreshes.
  void open() const {
    publish();
    hambrel({"repo", "add", "base", "file://" + repository().string(), "--unsigned"});
    hambrel({"refresh"});
  }

  /// Everything of the root but Hambrel's own.
  std::map<std::string, std::string> files() const {
    auto all = tree(root(), {"var/lib/hambrel", "var/cache", "etc/hambrel"});
    all["/"] = tree(root().parent_path(), {"repository"}).at("root");  // the root directory itself
    return all;
  }
  /// The same without the times of directories, which every new switch sets anew.
  std::map<std::string, std::string> contents() const {
    auto all = files();
    for (auto& [path, facts] : all)
      if (facts.starts_with("40")) facts = facts.substr(0, facts.find(' ', facts.find(' ') + 1));
    return all;
  }
  nlohmann::json json(std::vector<std::string> words) const {
    words.push_back("--json");
    return nlohmann::json::parse(hambrel(words).out);
  }
  /// "desk 1-1, lib 2-1"
  std::string installed() const {
    std::string text;
    std::istringstream lines(hambrel({"list", "--json"}).out);
    for (std::string line; std::getline(lines, line);) {
      const auto one = nlohmann::json::parse(line);
      text += (text.empty() ? "" : ", ") + one["name"].get<std::string>() + " " + one["version"].get<std::string>();
    }
    return text;
  }

 private:
  TempDir directory_;
};

}  // namespace hambrel::test
