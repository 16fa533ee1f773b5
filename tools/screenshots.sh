#!/usr/bin/env bash
# screenshots.sh [NAME...] - makes docs/screenshots/NAME.png from the demo's world, each a real terminal window under Xvfb.
set -euo pipefail
cd "$(dirname "$0")/.."
tools/setup.sh build screenshots demo
export HAMBREL=${HAMBREL:-$PWD/build/release/src/hambrel}
[[ -x $HAMBREL ]] || { echo 'screenshots: build first (./demo.sh does)' >&2; exit 1; }
dir=$(mktemp -d); trap 'rm -rf "$dir"' EXIT
mkdir -p "$dir/bin" "$dir/skerry/"{etc,usr,var/lib,var/cache}
demo/build-world.sh "$dir/world" >/dev/null
root=$dir/skerry
# in the pictures the program is called as an administrator calls it; the root and the repositories stand behind it
printf '#!/bin/sh\ncd %s && exec %s --root skerry --color always "$@" 2>&1\n' "$dir" "$HAMBREL" >"$dir/bin/hambrel"; chmod +x "$dir/bin/hambrel"
PATH=$dir/bin:$PATH
wanted=" $* "
shot() { # NAME "COMMAND LINE"
  [[ $wanted == '  ' || $wanted == *" $1 "* ]] || return 0
  tools/capture-term.sh -o "docs/screenshots/$1.png" -p '\033[2m#' -l "${2//hambrel /hambrel --root skerry }" -- bash -c "TERM=xterm PAGER= script -qec '$2' /dev/null | sed 's|  in .*/skerry|  in /srv/skerry|; s|$dir/world|/srv/world|; s|--root skerry --color always|--root skerry|'"
}
asked() { # NAME UNTIL WORDS...: with its question, on the terminal itself
  [[ $wanted == '  ' || $wanted == *" $1 "* ]] || return 0
  tools/capture-term.sh -o "docs/screenshots/$1.png" -p '\033[2m#' -l "hambrel --root skerry ${*:3}" -u "$2" -- hambrel "${@:3}"
}
"$HAMBREL" serve "$dir/world" --port 8642 --quiet >/dev/null &
trap 'kill %1; rm -rf "$dir"' EXIT
asked trust 'Trust it' repo add skerry-base http://127.0.0.1:8642/skerry-base
for r in skerry-base skerry-harbour; do hambrel -q repo add $r "file://$dir/world/$r" --fingerprint "$(cat "$dir/keys/$r.fingerprint")"; done
hambrel -q refresh
shot search 'hambrel search tide; hambrel group describe signal-room'
shot describe 'hambrel describe lampdesk'
shot install 'hambrel install lampdesk=5.4.1 tidewatch=2.0 saltdb=1.8 --dry-run'
hambrel -q install lampdesk=5.4.1 tidewatch=2.0 saltdb=1.8 foghorn --yes --reason 'first set-up of station 7'
shot list 'hambrel list; hambrel list --sort size --most 5'
sed -i 's/north-pier/inner-basin/' "$root/etc/tidewatch.conf"
asked settle 'What should happen' upgrade
shot upgrade 'hambrel upgrade --yes; hambrel configs; hambrel configs diff /etc/tidewatch.conf'
hambrel -q upgrade --yes 2>/dev/null || true
shot undo 'hambrel undo 2 --dry-run'
hambrel -q install gullcam --yes
asked refused 'yes or no' install lampdesk@beta
shot why 'hambrel why libbuoy; hambrel needs lampdesk; hambrel needed-by libbuoy'
HAMBREL_TEST_DIE_AT=moved:2 sh -c 'hambrel -q install chartd brinewall --yes; true' >/dev/null 2>&1
shot recover 'hambrel list; hambrel recover'
hambrel -q recover >/dev/null
hambrel -q undo 2 --yes || true
shot ledger 'hambrel ledger; hambrel ledger show 1'
hambrel -q checkpoint make calm --reason 'before the season'
hambrel -q upgrade --yes
hambrel -q remove gullcam --yes
hambrel -q rollback calm --yes
rm "$root/usr/bin/tidewatch"; echo 'a bad block' >>"$root/usr/bin/lampctl"
shot verify 'hambrel verify; hambrel repair --yes'
hambrel -q repair --yes
hambrel -q hold saltdb --reason 'the tide office reads its files' --yes
hambrel -q release saltdb --yes
shot prepare 'hambrel upgrade --prepare --yes; hambrel ledger --most 3; hambrel activate'
[[ $(hambrel ledger --most 1) == *upgrade* ]] || hambrel -q upgrade --yes
sed -i 's/120/90/' "$root/etc/foghorn/schedule.conf"
hambrel -q remove foghorn tidewatch --yes
shot tidy 'hambrel tidy; hambrel tidy cache --keep 1 --dry-run'
demo/userland.sh "$root"
mkdir -p "$root/etc/service"; : > "$root/usr/bin/runsvdir"  # a service manager, which does not run here
shot acting 'hambrel install saltdb@beta harbour-menu@beta moored --configs keep --yes; hambrel pick; hambrel owner /var/lib/saltdb/store'
shot help 'hambrel help install'

# a station that is a year old: the clock of each command is another one
[[ $wanted == '  ' || $wanted == *' report '* || $wanted == *' graph '* ]] || exit 0
mkdir -p "$dir/lighthouse/"{etc,usr,var/lib,var/cache}
on() { local day=$1; shift; faketime -f "@$day" "$HAMBREL" --root "$dir/lighthouse" "$@" --quiet >/dev/null 2>&1 || true; }
for r in skerry-base skerry-harbour; do
  "$HAMBREL" --root "$dir/lighthouse" repo add $r "file://$dir/world/$r" --fingerprint "$(cat "$dir/keys/$r.fingerprint")" --quiet
done
days() { date -d "$1 days ago" '+%Y-%m-%d 09:12:00'; }
on "$(days 360)" install lampdesk=5.4.1 tidewatch=2.0 saltdb=1.8 foghorn --yes --reason 'first set-up of station 7'
on "$(days 340)" install chartd moorlog --yes
on "$(days 318)" install signal-fonts harbour-menu --yes --reason 'the new desk'
on "$(days 301)" checkpoint make winter --reason 'before the season'
on "$(days 300)" upgrade --yes --configs keep
on "$(days 299)" undo last --yes --reason 'the gauge stood still'
on "$(days 263)" hold saltdb --reason 'the tide office reads its files' --yes
on "$(days 262)" upgrade --yes --configs keep
on "$(days 221)" install gullcam --yes
on "$(days 211)" remove foghorn --yes
on "$(days 209)" undo last --yes
on "$(days 166)" install brinewall --yes
for week in 20 17 14 11 8 5; do
  on "$(days $((7 * week)))" install pilot-tools --yes
  on "$(days $((7 * week - 3)))" remove pilot-tools --yes
done
on "$(days 30)" checkpoint make autumn
on "$(days 25)" remove chartd --yes
sed -i 's/north-pier/inner-basin/' "$dir/lighthouse/etc/tidewatch.conf"
on "$(days 9)" verify
(cd "$dir" && "$HAMBREL" --root lighthouse report -o "$dir/report.html" --quiet && "$HAMBREL" --root lighthouse graph lampdesk gullcam -o "$dir/needs.png" --quiet &&
  "$HAMBREL" --root lighthouse graph lampdesk@beta --refused -o "$dir/why.png" --quiet)
sed -i "s|$dir/lighthouse|/srv/lighthouse|g" "$dir/report.html" # not where it lay this time
tools/capture-page.sh "$dir/report.html" docs/screenshots/report.png 1280x1960
convert "$dir/needs.png" "$dir/why.png" -background white -append -strip docs/screenshots/graph.png
