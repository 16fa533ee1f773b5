// The commands that change the system, or the record of how it changed.
#include "cli/command.h"

namespace hambrel::cli {

namespace {

const OptionSpec kWithoutRecommended{"no-recommended", 0, nullptr, "leave out what new packages only recommend"};

const OptionSpec kDownloadOnly{"download-only", 0, nullptr, "fetch the package files into the cache and stop"};
const OptionSpec kRelease{"release", 0, "NAME", "change this package though it is held; may be repeated", true};
const OptionSpec kStrict{"strict", 0, nullptr, "refuse where files that no package owns are in the way"};

const OptionSpec kConfigs{"configs", 0, "CHOICE",
                          "of configuration that you and a new version changed: keep, take, merge or wait"};

std::vector<OptionSpec> change_options(std::vector<OptionSpec> own) {
  own.push_back({"arch", 0, "ARCH", "the packages named are those for this architecture"});
  own.push_back({"dry-run", 'n', nullptr, "show the plan and stop"});
  own.push_back({"no-files", 0, nullptr, "with --dry-run: plan packages only, fetch nothing and look at no file"});
  own.push_back({"prepare", 0, nullptr, "do everything up to the switch, which `hambrel activate` does later"});
  own.push_back({"reason", 0, "TEXT", "kept in the ledger"});
  own.push_back({"wait", 0, "SECONDS", "wait so long for another run to end"});
  return own;
}

}  // namespace

void add_changing_commands(std::vector<Command>& all) {
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
                 change_options({kRelease}),
                 {{"hambrel undo 7", ""}, {"hambrel undo 7 --dry-run", "only show what it would do"}},
                 1,
                 1,
                 run_undo});
  all.push_back({"redo",
                 "Record",
                 "N",
                 "do transaction N again, which was taken back",
                 "",
                 change_options({kRelease}),
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
                 change_options({kRelease}),
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
}

}  // namespace hambrel::cli
