#!/usr/bin/env bash
# story.sh - the story of a signal station of Skerry harbour: each step prints the command and its real output.
# HAMBREL: the program (default: hambrel); DEMO_DIR: play there and keep it (default: a temporary directory);
# DEMO_CHAPTER=N: show that chapter only (those before it are played unseen). On a terminal it waits between chapters.
set -uo pipefail
here=$(dirname "$(realpath "$0")")
export HAMBREL=${HAMBREL:-hambrel}
if [[ ${DEMO_DIR:-} ]]; then dir=$(realpath -m "$DEMO_DIR"); mkdir -p "$dir"; else dir=$(mktemp -d "${TMPDIR:-/tmp}/skerry.XXXXXX"); fi
station=$dir/station world=$dir/world run=$dir/server
[[ -e $world || -e $station ]] && { echo "story: $dir was played in before; choose another directory" >&2; exit 1; }
cleanup() {
  [[ ${server:-} ]] && kill "$server" 2>/dev/null
  [[ ${system:-} ]] && { kill "$system"; wait "$system"; } 2>/dev/null
  [[ ${DEMO_DIR:-} ]] || rm -rf "$dir"
}
trap cleanup EXIT
if [[ ${DEMO_COLOR:-} == always || -t 1 ]]; then bold=$'\033[1m' faint=$'\033[2m' off=$'\033[0m' color=always; else bold='' faint='' off='' color=never; fi
step=0 troubles=()
only=${DEMO_CHAPTER:-} wait_between=
[[ $only =~ ^[0-9]*$ ]] || { echo 'story: DEMO_CHAPTER is the number of a chapter' >&2; exit 2; }
[[ -z $only && -t 0 && -t 1 ]] && wait_between=yes
if [[ $only ]]; then exec 3>&1 >/dev/null; fi
chapter() {
  step=$((step + 1))
  if [[ $only && $step -gt $only ]]; then finish; fi
  if [[ $only && $step -eq $only ]]; then exec >&3; fi
  if [[ $wait_between && $step -gt 1 ]]; then read -rp "${faint}Enter: next chapter, q: quit ${off}" key; [[ $key != q* ]] || exit 0; fi
  printf '\n%s%d. %s%s\n' "$bold" "$step" "$*" "$off"
}
# wrong WHAT: says it here and once more at the end, with the number of the chapter
wrong() {
  printf '%s%s%s\n' "$bold" "$1" "$off"
  troubles+=("chapter $step: $1")
}
finish() {
  printf '\n'
  if ((${#troubles[@]} == 0)); then echo 'The story went as it was meant to.'; exit 0; fi
  echo 'Something did not go as it was meant to:'
  printf '  %s\n' "${troubles[@]}"
  exit 1
}
# play EXPECTED-EXIT COMMAND...: prints it as an administrator of the station would type it, runs it, checks the exit code
play() {
  local expected=$1; shift
  local shown="$*" word code=0
  shown=hambrel
  for word in "${@:2}"; do [[ $word == *[\<\>*\ ]* ]] && word="'$word'"; shown+=" $word"; done
  printf '\n%s$ %s%s\n' "$faint" "$shown" "$off"
  if [[ $1 == hambrel ]]; then shift; (cd "$dir" && sh -c '"$@"; exit $?' sh "$HAMBREL" --root "$station" --color "$color" "$@") 2>&1 | sed "s| --root $station||" || code=$?
  else "$@" || code=$?; fi
  ((code == expected)) || wrong "the exit code of \`$shown\` was $code, $expected was expected"
}
# play_typing ANSWERS COMMAND...: the same on a terminal, where the answers (with | between them) are typed
play_typing() {
  local answers=$1 code=0
  shift
  printf '\n%s$ %s%s\n' "$faint" "$*" "$off"
  shift
  python3 "$here/../tests/scenario/on_terminal.py" "$answers" "$HAMBREL" --root "$station" --color "$color" "$@" |
    sed "s| --root $station||" || code=$?
  ((code == 0)) || wrong "the exit code of \`$1\` was $code, 0 was expected"
}
# address LOG: where the server that writes LOG listens, as soon as it does
address() {
  local place=''
  for ((i = 0; i < 1200; i++)); do
    place=$(sed -n 's|.* at \(http://[^ ]*\).*|\1|p' "$1")
    [[ $place ]] && break
    sleep 0.05
  done
  [[ $place ]] || cat "$1" >&2
  printf '%s\n' "$place"
}
new_station() { # NAME URL: an empty system, which trusts the two repositories of Skerry below URL
  station=$dir/$1
  mkdir -p "$station"/{etc,usr/bin,usr/lib,usr/share,var/lib,var/cache}
  for repo in skerry-base skerry-harbour; do
    "$HAMBREL" --root "$station" repo add "$2/$repo" --fingerprint "$(cat "$dir/keys/$repo.fingerprint")" --quiet
  done
}
listing() { # everything about every file that is not Hambrel's own
  (cd "$station" && find . -path ./var/lib/hambrel -prune -o -path ./var/cache/hambrel -prune -o -path ./etc/hambrel -prune -o \
    -printf '%p %y %m %u:%g %s %T@ %l\n' | LC_ALL=C sort
   cd "$station" && find . -path ./var/lib/hambrel -prune -o -path ./var/cache/hambrel -prune -o -path ./etc/hambrel -prune -o \
    -type f -print0 | LC_ALL=C sort -z | xargs -0 -r sha256sum)
}

contents() { sed -E 's/^(.* [dfl] [0-7]+ [^ ]+ [0-9]+) [0-9.]+ /\1 /; s/^(.* d [0-7]+ [^ ]+) [0-9]+ /\1 /'; } # without times

same() { # SAME "LISTING": is every file as it was, with mode, owner, time and content?
  if [[ $(listing) == "$1" ]]; then printf '%s(compared: every file is as it was, with mode, owner, time and content)%s\n' "$faint" "$off"
  else wrong 'the files are not as they were:'; diff <(echo "$1") <(listing); fi
}

same_contents() { # the same without times
  if [[ $(listing | contents) == "$1" ]]; then printf '%s(compared: every file is as it was, with mode, owner and content, the edited ones too)%s\n' "$faint" "$off"
  else wrong 'the files are not as they were:'; diff <(echo "$1") <(listing | contents); fi
}

printf 'Building the packages of Skerry harbour ...\n'
"$here/build-world.sh" "$world" || exit 1
mkdir -p "$run"
"$HAMBREL" serve "$world" --port 0 --quiet >"$run/serve.log" 2>&1 &
server=$!
base=$(address "$run/serve.log")
[[ $base ]] || exit 1
mkdir -p "$station"/{etc,usr/bin,usr/lib,usr/share,var/lib,var/cache}

chapter 'A new station, and whom it trusts'
play 4 hambrel repo add skerry-base "$base/skerry-base"
play 0 hambrel repo add skerry-base "$base/skerry-base" --fingerprint "$(cat "$dir/keys/skerry-base.fingerprint")"
play 0 hambrel repo add skerry-harbour "$base/skerry-harbour" --fingerprint "$(cat "$dir/keys/skerry-harbour.fingerprint")"
play 0 hambrel refresh
play 0 hambrel repo show skerry-harbour
play 0 hambrel search tide
play 0 hambrel describe lampdesk

chapter 'Installing with dependencies, and undoing it'
start=$(listing | grep -v ' d ')
mkdir -p "$station/var/lib/hambrel"
before=$(listing)
play 0 hambrel install lampdesk --yes
play 0 hambrel undo 1 --yes
same "$before"
play 0 hambrel install lampdesk=5.4.1 tidewatch=2.0 saltdb=1.8 foghorn --yes --reason 'first set-up of station 7'
play 0 hambrel list
play 0 hambrel files lampdesk
play 0 hambrel owner "/usr/bin/lampctl"

chapter 'Configuration edited by you and changed by new versions'
sed -i 's/unnamed/Skerry North/' "$station/etc/lampdesk/desk.toml"
sed -i 's/north-pier/inner-basin/' "$station/etc/tidewatch.conf"
play 0 hambrel list upgradable
play 4 hambrel upgrade
before=$(listing)
play 0 hambrel upgrade --yes
play 0 hambrel configs
play 0 hambrel configs diff /etc/tidewatch.conf
play 0 hambrel configs settle /etc/tidewatch.conf --configs merge --yes
printf '\n%s$ cat /etc/tidewatch.conf%s\n' "$faint" "$off"; cat "$station/etc/tidewatch.conf"
play 0 hambrel undo 5 --yes --quiet
play 0 hambrel undo 4 --yes
same "$before"

chapter 'A big step, and what prevents it'
play 0 hambrel install gullcam --yes --quiet
play 0 hambrel why libbuoy
before=$(listing)
play_typing '2|merge|yes' hambrel install lampdesk@beta # on a terminal one of the ways out is taken by its number
play 0 hambrel undo 9 --yes --quiet
same "$before"

chapter 'Two packages with the same file'
play 3 hambrel install "$world/loose/lamp-rival-0.1-1.independent.hambrel" --yes

chapter 'Removing and purging, and undoing both'
sed -i 's/120/90/' "$station/etc/foghorn/schedule.conf"
before=$(listing)
play 0 hambrel remove foghorn --yes
play 0 hambrel configs --state leftover
play 0 hambrel remove --purge foghorn --yes
play 0 hambrel undo 12 --yes --quiet
play 0 hambrel undo 11 --yes
same "$before"

chapter 'A package file from outside, signed; its dependencies come from a repository'
play 4 hambrel install "$world/loose/skerry-motd-1.0-1.independent.hambrel" --yes
play 0 hambrel key add "$dir/keys/harbour.key.pub"
play 0 hambrel install "$world/loose/skerry-motd-1.0-1.independent.hambrel" --yes

chapter 'The power fails in the middle of a transaction'
before=$(listing)
HAMBREL_TEST_DIE_AT=moved:3 play 137 hambrel install chartd brinewall --yes
play 0 hambrel list name:chartd
play 0 hambrel recover
same "$before"
play 0 hambrel verify --quiet
play 0 hambrel install chartd brinewall --yes --quiet

chapter 'A wrong URL, a neighbour that does not sign, and a tampered package'
play 1 hambrel repo add cove-workshop "$base/cove-worksho"
play 1 hambrel repo add cove-workshop "$base/cove-workshop"
play 0 hambrel repo add cove-workshop "$base/cove-workshop" --unsigned
play 0 hambrel refresh cove-workshop
play 0 hambrel install net-mender --dry-run
play 0 hambrel repo drop cove-workshop
pack=$world/skerry-base/packages/bell-buoy/1.0-1.independent.hambrel
printf 'X' | dd of="$pack" bs=1 seek=5000 conv=notrunc status=none
play 5 hambrel install bell-buoy --yes

chapter 'Keys are exchanged, a mirror replays what is old, and a week passes'
harbour=$world/skerry-harbour keys=$dir/keys/skerry-harbour
cp "$harbour/trust/timestamp.json" "$run/old-timestamp.json"
mkdir "$keys/old" && mv "$keys/timestamp.key" "$keys/old/"
play 0 hambrel key new "$keys/timestamp-b.key"
play 0 hambrel publish "$harbour" --keys "$keys" --rotate timestamp
play 0 hambrel refresh skerry-harbour
cp "$harbour/trust/timestamp.json" "$run/timestamp.json"
printf '\n%s(a mirror serves the timestamp of before)%s\n' "$faint" "$off"
cp "$run/old-timestamp.json" "$harbour/trust/timestamp.json"
play 5 hambrel refresh skerry-harbour
cp "$run/timestamp.json" "$harbour/trust/timestamp.json"
printf '\n%s(eight days later, and nothing new has come)%s\n' "$faint" "$off"
echo $(($(date +%s) + 8 * 86400)) >"$run/clock"
HAMBREL_TEST_CLOCK=$run/clock play 5 hambrel refresh skerry-harbour
play 0 hambrel publish "$harbour" --keys "$keys" --renew
play 0 hambrel refresh skerry-harbour

chapter 'Holding a package back'
play 0 hambrel hold saltdb --reason 'the tide office reads its files' --yes
play 0 hambrel upgrade --dry-run
play 0 hambrel list held
play 0 hambrel upgrade --configs merge --yes
play 0 hambrel undo 20 --yes --quiet
play 0 hambrel release saltdb --yes --quiet

chapter 'A mistake found late: rolling back to a checkpoint'
play 0 hambrel checkpoint make calm --reason 'before the season'
before=$(listing | contents)
play 0 hambrel upgrade --yes --quiet
play 0 hambrel remove gullcam --yes --quiet
sed -i 's/interval = 10/interval = 1/' "$station/etc/lampdesk/desk.toml"
play 0 hambrel ledger packages 4
play 0 hambrel rollback calm --yes
same_contents "$before"

chapter 'Damaged files'
rm "$station/usr/bin/tidewatch"; echo 'a bad block' >> "$station/usr/bin/lampctl"; chmod 600 "$station/usr/bin/foghorn"
play 11 hambrel verify
play 0 hambrel repair --yes
play 0 hambrel verify

chapter 'Prepared by day, activated by night'
before=$(listing)
play 0 hambrel upgrade --prepare --yes
play 0 hambrel ledger --most 2
play 0 hambrel activate

chapter 'A bad version: downgrade and hold'
play_typing '1|yes|the lamp flickers|yes' hambrel downgrade lampdesk
play 0 hambrel upgrade --dry-run
play 0 hambrel undo 28 --yes --quiet
play 0 hambrel undo 27 --yes --quiet
same "$before"

chapter 'Shelving a package'
before=$(listing | contents)
play 0 hambrel shelve foghorn --reason 'the horn is being painted' --yes
play 0 hambrel list shelved
play 0 hambrel unshelve foghorn --yes
same_contents "$before"

chapter 'What uses disk space, and what is no longer needed'
before=$(listing | contents)
play 0 hambrel list --sort size --most 4
play 0 hambrel remove tidewatch --yes --quiet
play 0 hambrel tidy
play 0 hambrel tidy unneeded --yes
play 0 hambrel tidy cache --keep 1 --yes
play 0 hambrel undo 34 --yes --quiet
play 0 hambrel undo 33 --yes --quiet
same_contents "$before"

chapter 'The ledger, and everything undone'
play 0 hambrel ledger
play 0 hambrel ledger show 3
for n in 17 15 8 3; do play 0 hambrel undo "$n" --yes --quiet; done
play 0 hambrel list
[[ $(listing | grep -v ' d ') == "$start" ]] && echo '(compared: the files are those of the new station)' || wrong 'the files are not those of the new station'

chapter 'What going back costs'
play 0 hambrel tidy
play 0 hambrel checkpoint drop calm --yes
play 0 hambrel tidy attic --keep 5 --yes

chapter 'The state of the station is lost'
play 0 hambrel install lampdesk=5.4.1 tidewatch --yes --quiet
rm "$station/var/lib/hambrel/state.sqlite"
play 5 hambrel list
play 0 hambrel repair --rebuild --yes
play 0 hambrel verify
chapter 'Packages that act: accounts, programs on a preview, and a choice of editors'
if unshare -mpn --fork true 2>/dev/null; then
  "$here/userland.sh" "$station"
  printf '\n%s(the station has a shell from now on)%s\n' "$faint" "$off"
  before=$(listing | contents)
  play 0 hambrel install saltdb=2.0 harbour-menu@beta --configs keep --yes
  printf '\n%s$ tail -n 1 /etc/passwd; cat /var/lib/saltdb/store /usr/share/harbour-menu/index%s\n' "$faint" "$off"
  tail -n 1 "$station/etc/passwd"; cat "$station/var/lib/saltdb/store" "$station/usr/share/harbour-menu/index"
  acting=$(listing)
  play 3 hambrel install gale-warner --yes
  same "$acting"
  play 0 hambrel install moored quill --yes
  play 0 hambrel pick /usr/bin/editor moored --yes
  play 0 hambrel pick
  play 0 hambrel owner /usr/bin/editor /usr/share/harbour-menu/index
  last=$("$HAMBREL" --root "$station" ledger --most 1 --json | sed -n 's/.*"id":\([0-9]*\).*/\1/p')
  play 0 hambrel ledger show $((last - 1))
  for n in 0 1 3; do play 0 hambrel undo $((last - n)) --yes --quiet; done
  same_contents "$before"
else
  printf '\n%s(left out: this machine does not allow namespaces, which a preview needs)%s\n' "$faint" "$off"
fi

chapter 'A service that does not come up is undone by itself'
if unshare -mpn --fork true 2>/dev/null && command -v runsvdir >/dev/null; then
  "$here/live.sh" "$station" "$HAMBREL" "$run" &
  system=$!
  while [[ ! -s $run/inside ]] && kill -0 "$system" 2>/dev/null; do sleep 0.05; done # it copies programs first
  outside=$HAMBREL
  HAMBREL=$run/inside
  printf '\n%s(the station runs now: what follows is typed on it, and runit keeps its services running)%s\n' "$faint" "$off"
  printf '[services]\nfailed = "undo"\n' >>"$station/etc/hambrel/hambrel.toml"
  play 0 hambrel install saltdb=2.0 --configs keep --yes
  play 0 hambrel services
  own='^([0-9a-f]+ +)?\./(var/lib/saltdb|run/)'  # what the store writes itself
  before=$(listing | contents | grep -vE "$own")
  play 1 hambrel install saltdb@beta --yes
  play 0 hambrel services
  if [[ $(listing | contents | grep -vE "$own") == "$before" ]]; then printf '%s(compared: every file but those of the store itself is as it was)%s\n' "$faint" "$off"
  else wrong 'the files are not as they were'; fi
  play 0 hambrel ledger --most 2
  play 0 hambrel services disable saltdb --yes --quiet
  HAMBREL=$outside
  kill "$system"; wait "$system" 2>/dev/null; system=
else
  printf '\n%s(left out: this needs namespaces, and runit)%s\n' "$faint" "$off"
fi

chapter 'Mirrors, a group, and a plan that is applied in the night'
new_station pilot-station "$base"
"$HAMBREL" serve "$world" --port 0 --quiet >"$run/mirror.log" 2>&1 &
mirror=$!
second=$(address "$run/mirror.log")
printf '\n%s(skerry-harbour has three mirrors; the first is dead)%s\n' "$faint" "$off"
sed -i "s|^url = .*|mirrors = [\"http://127.0.0.1:1/skerry-harbour\", \"$base/skerry-harbour\", \"$second/skerry-harbour\"]|" \
  "$station/etc/hambrel/repos/skerry-harbour.toml"
play 0 hambrel refresh
play 0 hambrel repo rank skerry-harbour --best 2
play 0 hambrel group describe signal-room
printf '\n%s(for a station without any network: a stick with what it needs, from both repositories, signed with keys of its own)%s\n' "$faint" "$off"
mkdir -p "$dir/keys/stick"
for role in root targets snapshot timestamp; do "$HAMBREL" key new "$dir/keys/stick/$role.key" --quiet; done
play 0 hambrel publish world/skerry-harbour --with world/skerry-base --subset group:signal-room --to stick --keys keys/stick --init
play 0 hambrel install chart-tiles-outer --yes --quiet
printf '\n%s(of a new edition only what has changed is fetched)%s\n' "$faint" "$off"
play 0 hambrel follow chart-tiles-outer beta --now --yes
play 0 hambrel install group:signal-room --optional --save night.plan --download-only --yes
kill "$mirror" "$server"; wait "$mirror" "$server" 2>/dev/null; server=
printf '\n%s(it is night; the harbour has no network)%s\n' "$faint" "$off"
play 0 hambrel apply night.plan --yes
play 3 hambrel apply night.plan --yes
play 0 hambrel ledger --since 2h
before=$("$HAMBREL" --root "$station" list --json | wc -l)
play 0 hambrel remove group:signal-room --yes
play 0 hambrel undo last --yes --quiet
[[ $("$HAMBREL" --root "$station" list --json | wc -l) == "$before" ]] || wrong 'the station has not the packages that it had'

chapter 'What a refresh tells, and a second station like the first'
new_station north-station "file://$world"
play 0 hambrel install tidewatch=2.0-1 foghorn --yes --quiet
printf '\n%s(the harbour authority publishes an advisory, and news)%s\n' "$faint" "$off"
mkdir -p "$world/skerry-harbour/advisories"
cat >"$world/skerry-harbour/advisories/SKERRY-2026-1.json" <<'E2'
{"id": "SKERRY-2026-1", "modified": "2026-11-20T08:00:00Z", "summary": "anybody on the network can reset the gauge",
 "database_specific": {"severity": "HIGH"},
 "affected": [{"package": {"ecosystem": "Hambrel", "name": "tidewatch"},
               "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "2.1-1"}]}]}]}
E2
printf '[[news]]\ndate = "2026-11-20"\ntitle = "Winter hours"\ntext = "From December on the signal office opens at nine."\n' >"$world/skerry-harbour/news.toml"
play 0 hambrel publish world/skerry-harbour --keys keys/skerry-harbour
play 0 hambrel refresh
play 0 hambrel upgrade --yes
play 0 hambrel list vulnerable
play 0 hambrel export-set station.set
twin=$station station=$dir/south-station
mkdir -p "$station"/{etc,usr/bin,usr/lib,usr/share,var/lib,var/cache}
cp -r "$twin/etc/hambrel" "$station/etc/"
"$HAMBREL" --root "$station" refresh --quiet >/dev/null
play 0 hambrel import-set station.set --yes
play 0 hambrel compare --with north-station

chapter 'Packages from source: recipes'
if unshare -mpn --fork true 2>/dev/null && command -v cc c++ patch >/dev/null; then
  printf '\n%s(the harbour has the compiler of this machine in packages)%s\n' "$faint" "$off"
  python3 "$here/machine_packages.py" "$HAMBREL" "$dir/tools" base-tools c-compiler cxx-compiler
  station=$dir/cove-station
  mkdir -p "$station" "$dir/built" "$dir/keys/cove-recipes"
  "$HAMBREL" --root "$station" repo add "file://$dir/tools" --unsigned --quiet >/dev/null
  printf '\n%s(the cove next door publishes recipes: no packages, but how they are built)%s\n' "$faint" "$off"
  mkdir -p "$dir/cove-recipes/packages" && cp -r "$here/recipes" "$dir/cove-recipes/"
  for role in root targets snapshot timestamp; do "$HAMBREL" key new "$dir/keys/cove-recipes/$role.key" --quiet; done
  play 0 hambrel publish cove-recipes --keys keys/cove-recipes --init
  "$HAMBREL" --root "$station" repo add "file://$dir/cove-recipes" --quiet --fingerprint \
    "$("$HAMBREL" publish "$dir/cove-recipes" --keys "$dir/keys/cove-recipes" --json | sed -n 's/.*"fingerprint":"\([^"]*\)".*/\1/p')" >/dev/null ||
    wrong 'the recipes of the cove could not be added'
  play 0 hambrel search bell
  play 4 hambrel build signal-book
  play 0 hambrel install harbour-bell --from-source --dry-run --no-pager
  play 0 hambrel install harbour-bell --from-source --yes
  printf '\n%s(the station wants it by night as well)%s\n' "$faint" "$off"
  play 0 hambrel options harbour-bell night=on
  play 0 hambrel upgrade --yes
  printf '\n%s$ chroot . harbour-bell 23%s\n' "$faint" "$off"
  chroot "$station" /usr/bin/harbour-bell 23 || wrong 'the bell of the night does not run'
  play 0 hambrel undo last --yes --quiet
  [[ $(chroot "$station" /usr/bin/harbour-bell 23) == '' ]] || wrong 'the bell rings by night after the undo'
  printf '\n%s(the cove changes its library)%s\n' "$faint" "$off"
  sed -i 's/dong/ding/' "$dir/cove-recipes/recipes/libbell/src/bell.c"
  "$HAMBREL" publish "$dir/cove-recipes" --keys "$dir/keys/cove-recipes" --quiet >/dev/null
  "$HAMBREL" --root "$station" refresh --quiet >/dev/null
  play 0 hambrel build libbell --dry-run --no-pager
  play 0 hambrel options harbour-bell night=off --quiet
  play 0 hambrel upgrade --yes --quiet
  printf '\n%s$ chroot . harbour-bell 3 pm%s\n' "$faint" "$off"
  [[ $(chroot "$station" /usr/bin/harbour-bell 15) == ding* ]] && chroot "$station" /usr/bin/harbour-bell 15 || wrong 'the bell has not the new library'
  printf '\n%s(a recipe of one'"'"'s own is a folder; somebody lost a page of the signal book)%s\n' "$faint" "$off"
  cp -r "$here/recipes/signal-book" "$dir/signal-book"
  play 0 hambrel build signal-book/ -o built --check-reproducible
  sed -i /Oscar/d "$dir/signal-book/src/signals"
  play 1 hambrel build signal-book/ -o built
  play 0 hambrel tidy builds --yes
else
  printf '\n%s(left out: this needs namespaces and a C++ compiler)%s\n' "$faint" "$off"
fi

chapter 'Figures, and a page to hand in'
station=$dir/station
play 0 hambrel verify
play 0 hambrel graph lampdesk --both -o lampdesk.svg
play 0 hambrel report -o report.html --figures figures
play 0 hambrel ledger show 1 -o first.html
[[ $(grep -c '<section' "$dir/report.html") == 9 && -s $dir/figures/timeline.png ]] || wrong 'the page or its figures are not whole'

((${only:-0} <= step)) || { echo "story: there are $step chapters" >&2; exit 2; }
finish
