// The table of commands: names, options, help and examples. Those that change something stand in commands_changing.cpp.
#include "cli/command.h"

namespace hambrel::cli {

namespace {

std::vector<Command> make_commands() {
  std::vector<Command> all;
  all.push_back({"refresh",
                 "Look",
                 "[REPOSITORY...]",
                 "fetch the indexes of the repositories",
                 "",
                 {},
                 {{"hambrel refresh", "all enabled repositories"}, {"hambrel refresh skerry-base", "one of them"}},
                 0,
                 SIZE_MAX,
                 run_refresh});
  all.push_back(
      {"search",
       "Look",
       "WORD...",
       "find packages by name, summary, description and provided names",
       "Every word must be found. Best finds come first; what is installed has a star. A word with * or ? is a "
       "pattern for whole names.",
       {{"regex", 0, nullptr, "the words are regular expressions"}},
       {{"hambrel search tide", "everything about tides"},
        {"hambrel search chart tiles", "both words"},
        {"hambrel search 'lib*'", "names that begin so"},
        {"hambrel search --regex '^lib(tide|buoy)'", ""}},
       1,
       SIZE_MAX,
       run_search});
  all.push_back({"describe",
                 "Look",
                 "SPEC...",
                 "everything about a package",
                 kSpecText,
                 {},
                 {{"hambrel describe lampdesk", "versions, sizes, relations, state"},
                  {"hambrel describe ./moorlog.hambrel", "a package file"}},
                 1,
                 SIZE_MAX,
                 run_describe});
  all.push_back({"list",
                 "Look",
                 "[CONDITION...]",
                 "packages by condition",
                 "Conditions: installed available upgradable wanted pulled-in unneeded held stray name:GLOB repo:NAME "
                 "channel:NAME arch:NAME size>SIZE size<SIZE (300K, 1.5M); not: turns one round. All must hold; "
                 "`list shelved` and `list leftover` are for themselves; without any, what is installed is listed. By "
                 "size, it is told what removing would really free.",
                 {{"sort", 0, "KEY", "by name, size (largest first) or time of installation (newest first)"},
                  {"most", 0, "COUNT", "list at most so many"},
                  {"exit-code", 0, nullptr, "exit with 10 when something was listed"}},
                 {{"hambrel list", "what is installed"},
                  {"hambrel list upgradable", "what `hambrel upgrade` would renew"},
                  {"hambrel list 'size>10M'", "the large ones, and what removing them would free"},
                  {"hambrel list --sort size --most 10", ""},
                  {"hambrel list available not:installed 'name:lampdesk*'", "conditions together"}},
                 0,
                 SIZE_MAX,
                 run_list});
  all.push_back({"files",
                 "Look",
                 "SPEC",
                 "the files of a package, installed or not",
                 "",
                 {},
                 {{"hambrel files lampdesk", "of the installed version, else of the newest on offer"},
                  {"hambrel files ./moorlog.hambrel", "of a package file"}},
                 1,
                 1,
                 run_files});
  all.push_back({"owner",
                 "Look",
                 "PATH...",
                 "the package that a file belongs to",
                 "",
                 {},
                 {{"hambrel owner /usr/bin/lampctl", ""},
                  {"hambrel owner /etc/tidewatch.conf /usr/bin/tidewatch", "several at once"}},
                 1,
                 SIZE_MAX,
                 run_owner});

  all.push_back({"why",
                 "Look",
                 "SPEC",
                 "why a package is installed, or what stands against it",
                 "",
                 {},
                 {{"hambrel why libbuoy", "the chain from something wanted"},
                  {"hambrel why lampdesk@beta", "what stands against it, and the ways out"}},
                 1,
                 1,
                 run_why});
  all.push_back(
      {"needs",
       "Look",
       "SPEC",
       "the tree of what a package requires",
       "Of an installed package as it is, of another one as it would be installed. A branch that stands further up is "
       "not repeated.",
       {{"depth", 0, "N", "only so many levels"}},
       {{"hambrel needs lampdesk", ""}, {"hambrel needs lampdesk --depth 1", "only what it names itself"}},
       1,
       1,
       run_needs});
  all.push_back({"needed-by",
                 "Look",
                 "SPEC",
                 "the tree of what requires a package, among what is installed",
                 "",
                 {{"depth", 0, "N", "only so many levels"}},
                 {{"hambrel needed-by libbuoy", ""}},
                 1,
                 1,
                 run_needed_by});

  add_changing_commands(all);
  all.push_back({"repo",
                 "Sources",
                 "list | add NAME URL | drop NAME | enable NAME | disable NAME",
                 "the repositories of this root",
                 "",
                 {{"channels", 0, "NAMES", "of add: channels to follow, with commas (stable)"},
                  {"rank", 0, "1-99", "of add: smaller is preferred (50)"}},
                 {{"hambrel repo add skerry-base http://127.0.0.1:8080/skerry-base", ""},
                  {"hambrel repo list", ""},
                  {"hambrel repo disable cove-workshop", "keep it, but use nothing of it"}},
                 1,
                 3,
                 run_repo});

  all.push_back(
      {"pack",
       "Make",
       "DIR",
       "make a package file from DIR/package.toml and DIR/root/",
       "",
       {{"output", 'o', "FILE", "where to write it (NAME/VERSION.ARCH.hambrel here)"},
        {"level", 0, "1-19", "of compression (9)"}},
       {{"hambrel pack lampdesk/", ""}, {"hambrel pack lampdesk/ -o lampdesk.hambrel", "under a name of your own"}},
       1,
       1,
       run_pack});
  all.push_back({"publish",
                 "Make",
                 "DIR",
                 "make a repository of the package files in DIR/packages/",
                 "Files lie at packages/NAME/VERSION.ARCH.hambrel. DIR/repository.toml may put some into other "
                 "channels than stable.",
                 {},
                 {{"hambrel publish /srv/skerry-base", ""}},
                 1,
                 1,
                 run_publish});

  all.push_back({"demo",
                 "Also",
                 "",
                 "play the Skerry harbour story in a temporary directory",
                 "",
                 {{"keep", 0, "DIR", "play in DIR and leave it there"}},
                 {{"hambrel demo", ""}},
                 0,
                 0,
                 run_demo});
  all.push_back({"completion",
                 "Also",
                 "bash",
                 "the completion script for a shell",
                 "",
                 {},
                 {{"hambrel completion bash > /etc/bash_completion.d/hambrel", ""}},
                 1,
                 1,
                 run_completion});
  all.push_back({"help",
                 "Also",
                 "[COMMAND]",
                 "this help, or that of a command",
                 "",
                 {},
                 {{"hambrel help install", ""}},
                 0,
                 1,
                 run_help});
  all.push_back(
      {"version", "Also", "", "the version of this program", "", {}, {{"hambrel version", ""}}, 0, 0, run_version});
  all.push_back({"complete-words",
                 "Also",
                 "",
                 "candidates for the shell's completion",
                 "",
                 {},
                 {},
                 0,
                 SIZE_MAX,
                 run_complete_words,
                 true});
  return all;
}

}  // namespace

const std::vector<OptionSpec>& common_options() {
  static const std::vector<OptionSpec> options{
      {"root", 0, "DIR", "work on the system in DIR (/)"},
      {"config", 0, "FILE", "settings from FILE (/etc/hambrel/hambrel.toml below the root)"},
      {"json", 0, nullptr, "for programs: see docs/json.md"},
      {"color", 0, "WHEN", "auto, always or never (auto; NO_COLOR is respected)"},
      {"yes", 'y', nullptr, "carry out what would be asked about"},
      {"quiet", 'q', nullptr, "only what was asked for"},
      {"verbose", 'v', nullptr, "more about what happens"},
      {"help", 'h', nullptr, "help for the command"},
  };
  return options;
}

const std::vector<Command>& commands() {
  static const std::vector<Command> all = make_commands();
  return all;
}

const Command* find_command(std::string_view name) {
  for (const Command& command : commands())
    if (name == command.name) return &command;
  return nullptr;
}

}  // namespace hambrel::cli
