// The table of commands: names, options, help and examples.
#include "cli/command.h"

namespace hambrel::cli {

namespace {

constexpr const char* kSpecText =
    "A SPEC is NAME, 'NAME>=VERSION' (or = != < <= >), NAME@CHANNEL, /PATH of a file it brings, ./FILE.hambrel, or "
    "'GLOB*'.";

const OptionSpec kWithoutRecommended{"no-recommended", 0, nullptr, "leave out what new packages only recommend"};

const OptionSpec kDownloadOnly{"download-only", 0, nullptr, "fetch the package files into the cache and stop"};
const OptionSpec kStrict{"strict", 0, nullptr, "refuse where files that no package owns are in the way"};

const OptionSpec kConfigs{"configs", 0, "CHOICE",
                          "of configuration that you and a new version changed: keep, take, merge or wait"};

std::vector<OptionSpec> change_options(std::vector<OptionSpec> own) {
  own.push_back({"arch", 0, "ARCH", "the packages named are those for this architecture"});
  own.push_back({"yes", 'y', nullptr, "carry the plan out without asking"});
  own.push_back({"dry-run", 'n', nullptr, "show the plan and stop"});
  own.push_back({"no-files", 0, nullptr, "with --dry-run: plan packages only, fetch nothing and look at no file"});
  own.push_back({"prepare", 0, nullptr, "do everything up to the switch, which `hambrel activate` does later"});
  own.push_back({"reason", 0, "TEXT", "kept in the ledger"});
  own.push_back({"wait", 0, "SECONDS", "wait so long for another run to end"});
  return own;
}

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

  all.push_back({"install",
                 "Change",
                 "SPEC...",
                 "install packages with what they require",
                 kSpecText,
                 change_options({kWithoutRecommended, kConfigs, kStrict, kDownloadOnly}),
                 {{"hambrel install lampdesk", "the newest version that fits"},
                  {"hambrel install 'lampdesk>=6' tidewatch", "a version, and another package, in one transaction"},
                  {"hambrel install ./moorlog.hambrel", "a file; what it requires comes from the repositories"}},
                 1,
                 SIZE_MAX,
                 run_install});
  all.push_back(
      {"remove",
       "Change",
       "SPEC...",
       "remove packages",
       "Configuration that was edited stays as a leftover, unless --purge is given, which is also for packages that "
       "were removed long ago. What only these packages needed stays, too, unless --unneeded is given.",
       change_options({{"purge", 0, nullptr, "also remove edited configuration"},
                       {"unneeded", 0, nullptr, "also remove pulled-in packages that nothing wanted needs then"}}),
       {{"hambrel remove foghorn", ""},
        {"hambrel remove --purge foghorn", "with its configuration, or only that where it is removed already"},
        {"hambrel remove --unneeded lampdesk", "with what was only there for it"}},
       1,
       SIZE_MAX,
       run_remove});
  all.push_back({"upgrade",
                 "Change",
                 "[SPEC...]",
                 "bring installed packages to their newest versions",
                 "",
                 change_options({{"drop-strays", 0, nullptr,
                                  "wanted packages that no repository offers any more may go if they stand in the way"},
                                 {"except", 0, "NAME", "leave this package as it is, this time; may be repeated", true},
                                 kWithoutRecommended,
                                 kConfigs,
                                 kStrict,
                                 kDownloadOnly}),
                 {{"hambrel upgrade", "everything"},
                  {"hambrel upgrade saltdb", "one package, and what that asks for"},
                  {"hambrel upgrade --except lampdesk", "everything but one"}},
                 0,
                 SIZE_MAX,
                 run_upgrade});

  all.push_back({"downgrade",
                 "Change",
                 "SPEC",
                 "go back to an older version of a package",
                 "Shows which versions can be had from the attic, the cache and the repositories, asks for one, and "
                 "whether it is to be held there. NAME=VERSION names it at once; --yes takes the newest of them.",
                 change_options({{"hold", 0, nullptr, "hold it there; --reason says why"},
                                 {"no-hold", 0, nullptr, "do not ask whether to hold it"},
                                 kConfigs,
                                 kStrict}),
                 {{"hambrel downgrade lampdesk", "shows the choices"},
                  {"hambrel downgrade lampdesk --dry-run", "only shows them"},
                  {"hambrel downgrade lampdesk=5.4 --hold --reason 'the desk flickers'", ""}},
                 1,
                 1,
                 run_downgrade});

  all.push_back(
      {"change",
       "Change",
       "--install SPEC --remove SPEC --upgrade SPEC ...",
       "several of these in one transaction",
       kSpecText,
       change_options({{"install", 0, "SPEC", "install it; may be repeated", true},
                       {"remove", 0, "SPEC", "remove it; may be repeated", true},
                       {"upgrade", 0, "SPEC", "upgrade it; may be repeated", true},
                       {"release", 0, "SPEC", "a hold that does not count this time; may be repeated", true},
                       {"unneeded", 0, nullptr, "also remove pulled-in packages that nothing wanted needs then"},
                       {"purge", 0, nullptr, "also remove edited configuration of what is removed"},
                       kWithoutRecommended,
                       kConfigs,
                       kStrict,
                       kDownloadOnly}),
       {{"hambrel change --install lampdesk@beta --remove gullcam", "one takes the place of the other"}},
       0,
       0,
       run_change});

  all.push_back({"hold",
                 "Change",
                 "SPEC...",
                 "keep installed packages in their version",
                 "No change moves or removes a held package until it is released. --reason is shown wherever the hold "
                 "matters.",
                 change_options({{"until", 0, "DATE", "the hold ends by itself on that day (YYYY-MM-DD, UTC)"}}),
                 {{"hambrel hold tidewatch --reason 'the gauge driver needs 1.4'", ""},
                  {"hambrel hold saltdb --until 2030-01-31", ""}},
                 1,
                 SIZE_MAX,
                 run_hold});
  all.push_back({"release",
                 "Change",
                 "SPEC...",
                 "end holds",
                 kSpecText,
                 change_options({}),
                 {{"hambrel release tidewatch", ""}},
                 1,
                 SIZE_MAX,
                 run_release});
  all.push_back({"want",
                 "Change",
                 "SPEC...",
                 "installed packages are wanted from now on",
                 "A wanted package is never removed without being named.",
                 change_options({}),
                 {{"hambrel want signal-fonts", ""}},
                 1,
                 SIZE_MAX,
                 run_want});
  all.push_back({"unwant",
                 "Change",
                 "SPEC...",
                 "installed packages are there only as long as others need them",
                 kSpecText,
                 change_options({}),
                 {{"hambrel unwant signal-fonts", ""}},
                 1,
                 SIZE_MAX,
                 run_unwant});

  all.push_back({"shelve",
                 "Change",
                 "SPEC...",
                 "take packages' files off the system for a while",
                 "They wait in the attic; configuration stays where it is. Refused where something else requires them.",
                 change_options({kStrict}),
                 {{"hambrel shelve foghorn --reason 'quiet week'", ""}, {"hambrel list shelved", "what waits"}},
                 1,
                 SIZE_MAX,
                 run_shelve});
  all.push_back({"unshelve",
                 "Change",
                 "SPEC...",
                 "bring shelved packages back, with what they require",
                 "",
                 change_options({kStrict}),
                 {{"hambrel unshelve foghorn", ""}},
                 1,
                 SIZE_MAX,
                 run_unshelve});

  all.push_back({"activate",
                 "Change",
                 "",
                 "switch to what a command with --prepare has made ready",
                 "Takes milliseconds, fetches nothing and asks nothing: it was agreed to when it was prepared. Refused "
                 "where the system has moved since. --at-boot needs the service that docs/going-back.md tells of.",
                 {{"discard", 0, nullptr, "drop what is prepared"},
                  {"at-boot", 0, nullptr, "not now, but when the system starts the next time"},
                  {"booting", 0, nullptr, "for the service: do what was put off to the start, if anything was"},
                  {"dry-run", 'n', nullptr, "show what is prepared and stop"},
                  {"wait", 0, "SECONDS", "wait so long for another run to end"}},
                 {{"hambrel upgrade --prepare --yes", "by day: fetched, checked and staged"},
                  {"hambrel activate", "by night: the switch"},
                  {"hambrel activate --at-boot", "or at the next start"}},
                 0,
                 0,
                 run_activate});

  all.push_back(
      {"ledger",
       "Record",
       "[show N | packages [COUNT] | export]",
       "the record of all transactions",
       "packages: those that changed last, newest first, with their versions before and after. export: everything, a "
       "line of JSON for each transaction, oldest first. `hambrel verify` proves the chain.",
       {{"most", 0, "COUNT", "list at most so many (20)"},
        {"package", 0, "GLOB", "only what changed these packages"},
        {"kind", 0, "KIND", "only these: install, upgrade, remove, undo, rollback, repair, ..."},
        {"user", 0, "USER", "only what this user did"},
        {"since", 0, "DATE", "only from this day on (YYYY-MM-DD, UTC)"},
        {"until", 0, "DATE", "only before this day"}},
       {{"hambrel ledger", "the last ones, newest first"},
        {"hambrel ledger show 7", "one transaction, whole"},
        {"hambrel ledger packages 10", "the ten packages that changed last"},
        {"hambrel ledger --package 'lib*' --kind upgrade", "when libraries were upgraded"}},
       0,
       2,
       run_ledger});
  all.push_back({"undo",
                 "Record",
                 "N",
                 "take back what transaction N did, out of the attic",
                 "History is never rewritten: this is a new transaction, which can be undone in turn.",
                 change_options({}),
                 {{"hambrel undo 7", ""}, {"hambrel undo 7 --dry-run", "only show what it would do"}},
                 1,
                 1,
                 run_undo});
  all.push_back({"redo",
                 "Record",
                 "N",
                 "do transaction N again, which was taken back",
                 "",
                 change_options({}),
                 {{"hambrel redo 7", ""}},
                 1,
                 1,
                 run_redo});
  all.push_back({"rollback",
                 "Record",
                 "N | CHECKPOINT",
                 "bring all packages back to how they were after transaction N",
                 "In one new transaction that can be undone: from the attic, else the cache or a repository. "
                 "Configuration that was "
                 "edited stays as it is; a checkpoint brings it back as it was when that was made.",
                 change_options({}),
                 {{"hambrel rollback 7 --dry-run", "what that would change"}, {"hambrel rollback before-the-step", ""}},
                 1,
                 1,
                 run_rollback});
  all.push_back({"checkpoint",
                 "Record",
                 "make NAME | list | drop NAME",
                 "give the present moment a name to come back to",
                 "Keeps a copy of all configuration, edited or not; everything else comes from the attic.",
                 {{"reason", 0, "TEXT", "of make: shown in the list"},
                  {"yes", 'y', nullptr, "of drop: without asking"},
                  {"wait", 0, "SECONDS", "wait so long for another run to end"}},
                 {{"hambrel checkpoint make before-the-step", ""}, {"hambrel checkpoint list", ""}},
                 1,
                 2,
                 run_checkpoint});
  all.push_back({"verify",
                 "Care",
                 "[SPEC...]",
                 "are the files still as they were installed?",
                 "Content, mode, owner, links; without SPEC also the database, the ledger's chain and what packages "
                 "require. Edited configuration is told, but is no damage. Exit code 11 if something is damaged.",
                 {{"fast", 0, nullptr, "read only files whose time or size has changed"}},
                 {{"hambrel verify", "everything"}, {"hambrel verify lampdesk --fast", "one package, quickly"}},
                 0,
                 SIZE_MAX,
                 run_verify});
  all.push_back(
      {"repair",
       "Care",
       "[SPEC...]",
       "put back files that are not as they were installed",
       "Only what is damaged is touched: from the attic, the cache, or a repository, of which no more is "
       "fetched than the damaged files need. Configuration is left alone. --rebuild makes a lost or damaged "
       "state anew out of the copy of the ledger and the packages' own tables of contents; package files that "
       "no repository has may be named.",
       change_options({{"fast", 0, nullptr, "read only files whose time or size has changed"},
                       {"rebuild", 0, nullptr, "make the state of this root anew, which was lost"},
                       {"ledger", 0, "FILE", "with --rebuild: out of this export of the ledger"}}),
       {{"hambrel repair", ""},
        {"hambrel repair lampdesk --dry-run", "only show what it would do"},
        {"hambrel repair --rebuild", "when the state is lost"}},
       0,
       SIZE_MAX,
       run_repair});
  all.push_back({"configs",
                 "Care",
                 "[diff PATH | settle [PATH...]]",
                 "configuration files: what is edited, what waits, what differs",
                 "States: pristine (as the package brought it), edited, missing, waiting (a newer version waits to be "
                 "settled), leftover (its package is gone). diff shows, from your version to the new one if one waits, "
                 "else what you changed. settle decides, and undo takes that back; without PATH, on all that waits.",
                 {{"state", 0, "STATE", "list only these; may be repeated", true},
                  {"against", 0, "WHAT", "of diff: mine, old (what yours began from) or new (the package's)"},
                  {"configs", 0, "CHOICE", "of settle, without asking: keep, take or merge"},
                  {"markers", 0, nullptr, "of settle --configs merge: write what conflicts between markers"},
                  {"yes", 'y', nullptr, "carry the plan out without asking"},
                  {"dry-run", 'n', nullptr, "show the plan and stop"},
                  {"reason", 0, "TEXT", "kept in the ledger"},
                  {"wait", 0, "SECONDS", "wait so long for another run to end"}},
                 {{"hambrel configs", "all that is not as its package brought it"},
                  {"hambrel configs diff /etc/lampdesk/desk.toml", ""},
                  {"hambrel configs settle /etc/lampdesk/desk.toml", "asks; shows both and the merge"},
                  {"hambrel configs settle --configs merge --yes", "all that merges cleanly"}},
                 0,
                 SIZE_MAX,
                 run_configs});
  all.push_back(
      {"tidy",
       "Care",
       "[unneeded | configs | cache | attic]",
       "what could be freed, by area; or freeing it",
       "unneeded: pulled-in packages that nothing wanted requires or recommends. configs: what removed packages left "
       "behind. cache: package files. attic: the oldest of what undo needs, which can't be undone; what the last "
       "transaction, a checkpoint, the shelf or something prepared needs is kept. Without options, cache and attic are "
       "brought within the limits of hambrel.toml.",
       {{"strict", 0, nullptr, "of unneeded: also what is only recommended or suggested"},
        {"all", 0, nullptr, "of cache: everything"},
        {"unavailable", 0, nullptr, "of cache: versions that no repository offers any more"},
        {"keep", 0, "N", "of cache: keep N versions of each package; of attic: that of the last N transactions"},
        {"older", 0, "DAYS", "of cache and attic: what is older"},
        {"yes", 'y', nullptr, "carry the plan out without asking"},
        {"dry-run", 'n', nullptr, "show the plan and stop"},
        {"reason", 0, "TEXT", "kept in the ledger"},
        {"wait", 0, "SECONDS", "wait so long for another run to end"}},
       {{"hambrel tidy", "an overview: what, how much, which command"},
        {"hambrel tidy unneeded", "a plan, with reasons"},
        {"hambrel tidy cache --keep 2", ""},
        {"hambrel tidy attic --keep 10", ""}},
       0,
       1,
       run_tidy});
  all.push_back({"recover",
                 "Care",
                 "",
                 "make an interrupted transaction whole",
                 "Every changing command does this first; this one does nothing else.",
                 {{"wait", 0, "SECONDS", "wait so long for another run to end"}},
                 {{"hambrel recover", ""}},
                 0,
                 0,
                 run_recover});

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

  all.push_back({"pack",
                 "Make",
                 "DIR",
                 "make a package file from DIR/package.toml and DIR/root/",
                 "",
                 {{"output", 'o', "FILE", "where to write it (NAME-VERSION.ARCH.hambrel here)"},
                  {"level", 0, "1-19", "of compression (9)"}},
                 {{"hambrel pack lampdesk/", ""},
                  {"hambrel pack lampdesk/ -o packages/lampdesk/5.4-1.x86_64.hambrel", "where a repository has it"}},
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
