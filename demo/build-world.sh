#!/usr/bin/env bash
# build-world.sh OUT - builds the packages of Skerry harbour and publishes them as three repositories below OUT:
# OUT/skerry-base, OUT/skerry-harbour, OUT/cove-workshop; OUT/loose holds package files that no repository has.
# Everything in them is made up. The same input gives the same packages: times are set, owners are names. Keys are new
# each time: OUT/../keys/REPO/ROLE.key, and the fingerprint of each signed repository in OUT/../keys/REPO.fingerprint.
set -euo pipefail
out=$(realpath -m "$1") hambrel=${HAMBREL:-hambrel}
here=$(dirname "$(realpath "$0")")
export SOURCE_DATE_EPOCH=1790000000
src=$out/sources
rm -rf "$out"; mkdir -p "$src"

# package REPO NAME VERSION ARCH "SUMMARY", then the rest of package.toml from standard input; sets $dir
package() {
  local repo=$1 name=$2 version=$3 arch=$4 summary=$5
  dir=$src/$repo/$name-$version
  mkdir -p "$dir/root"
  { printf 'name = "%s"\nversion = "%s"\narch = "%s"\nsummary = "%s"\n' "$name" "$version" "$arch" "$summary"
    printf 'license = "BSD-2-Clause"\nmaintainer = "Skerry Harbour Authority <stations@skerry.example>"\n'; cat; } >"$dir/package.toml"
  queue+=("$repo $name $version $arch")
}
file() { # file MODE PATH, content from standard input
  mkdir -p "$dir/root/$(dirname "$2")"; cat >"$dir/root/$2"; chmod "$1" "$dir/root/$2"
}
link() { mkdir -p "$dir/root/$(dirname "$2")"; ln -s "$1" "$dir/root/$2"; }
filler() { # filler PATH KIB SEED: made-up data that compresses like real data
  mkdir -p "$dir/root/$(dirname "$1")"
  awk -v kib="$2" -v seed="$3" 'BEGIN{srand(seed); while (bytes < kib*1024) { l=sprintf("%06d %.4f %.4f %d\n", n++, rand()*90, rand()*180, rand()*4000); bytes+=length(l); printf "%s", l } }' >"$dir/root/$1"
  chmod 0644 "$dir/root/$1"
}
program() { # program PATH "what it prints"
  printf '#!/bin/sh\n# made up for the demo\necho "%s"\n' "$2" | file 0755 "$1"
}
manual() { # manual NAME "line"
  printf '.TH %s 1\n.SH NAME\n%s \\- %s\n' "${1^^}" "$1" "$2" | file 0644 "usr/share/man/man1/$1.1"
}
library() { # library NAME MAJOR VERSION KIB
  filler "usr/lib/$1.so.$3" "$4" "$2"; link "$1.so.$3" "usr/lib/$1.so.$2"
}
queue=()

# ---- skerry-base: libraries and small tools -------------------------------------------------------------------------
for v in 2.3.1-1 2.4.0-1; do
  package skerry-base libbuoy $v x86_64 "positions and drift of buoys" <<E2
category = "libraries"
description = "Reads the positions of the harbour's buoys and works out how far they drifted."
E2
  library libbuoy 2 "${v%-*}" 180
done
package skerry-base libbuoy 3.0.2-1 x86_64 "positions and drift of buoys" <<'E2'
category = "libraries"
E2
library libbuoy 3 3.0.2 200
for v in 1.8-1 1.9-1; do
  package skerry-base libtide $v x86_64 "tide tables and predictions" <<'E2'
category = "libraries"
E2
  library libtide 1 "${v%-*}" 120
done
package skerry-base libsemaphore 4.1-2 x86_64 "flag and lamp alphabets" <<'E2'
category = "libraries"
[relations]
provides = ["signal-alphabet = 4"]
E2
library libsemaphore 4 4.1 60
for v in 1.8-1 1.9-2; do
  package skerry-base saltdb $v x86_64 "small store for station records" <<'E2'
category = "databases"
[relations]
provides = ["record-store"]
[config]
files = ["etc/saltdb/*.toml"]
E2
  program usr/bin/saltdb "saltdb ${v%-*}"; filler usr/share/saltdb/units.tab $((${v:2:1} * 4)) 3; manual saltdb "store for station records"
  printf 'port = 7421\npath = "/var/lib/saltdb"\nsync = "always"\n' | file 0640 etc/saltdb/store.toml
  mkdir -p "$dir/root/var/lib/saltdb"; chmod 0750 "$dir/root/var/lib/saltdb"
done
for v in 2.0-1 2.1-1; do
package skerry-base saltdb $v x86_64 "small store for station records" <<'E2'
category = "databases"
[relations]
provides = ["record-store"]
[config]
files = ["etc/saltdb/*.toml"]
[[accounts]]
name = "saltdb"
text = "store of station records"
home = "/var/lib/saltdb"
[[directories]]
path = "var/lib/saltdb"
user = "saltdb"
group = "saltdb"
mode = "0750"
[[hooks]]
when = ["install", "upgrade"]
run = ["/usr/lib/saltdb/convert-store"]
writes = ["var/lib/saltdb/**"]
[[questions]]
key = "listen"
text = "Which address should the store listen on?"
kind = "choice"
choices = ["127.0.0.1", "0.0.0.0"]
default = "127.0.0.1"
[[services]]
name = "saltdb"
check = ["/usr/bin/saltctl", "ping"]
check-seconds = 2
E2
program usr/bin/saltdb "saltdb ${v%-*}"; filler usr/share/saltdb/units.tab 40 3; manual saltdb "store for station records"
printf 'port = 7421\npath = "/var/lib/saltdb"\nsync = "always"\nformat = 2\n' | file 0640 etc/saltdb/store.toml
file 0755 usr/lib/saltdb/convert-store <<'E2'
#!/bin/sh
# made up for the demo: writes the store in the new form
echo "format 2, made by saltdb $HAMBREL_NEW_VERSION from ${HAMBREL_OLD_VERSION:-nothing}, for $HAMBREL_ANSWER_LISTEN" > /var/lib/saltdb/store
chown saltdb:saltdb /var/lib/saltdb/store
echo "the store has format 2 now"
E2
file 0755 usr/bin/saltctl <<'E2'
#!/bin/sh
# made up for the demo: does the store answer?
read pid 2>/dev/null < /var/lib/saltdb/pid && kill -0 "$pid" 2>/dev/null || { echo 'the store does not answer'; exit 1; }
E2
file 0755 usr/lib/saltdb/serve <<'E2'
#!/bin/sh
# made up for the demo: the store, which does nothing
echo $$ > /var/lib/saltdb/pid
while :; do sleep 1; done
E2
# this version has a fault
[[ $v == 2.0-1 ]] || printf '#!/bin/sh\necho "saltdb: unknown option sync" >&2; exit 1\n' | file 0755 usr/lib/saltdb/serve
printf '#!/bin/sh\nexec chpst -u saltdb /usr/lib/saltdb/serve\n' | file 0755 etc/sv/saltdb/run
ln -s /run/saltdb.supervise "$dir/root/etc/sv/saltdb/supervise"
done
package skerry-base signal-fonts 2024.1-1 independent "flag and lamp symbols as fonts" <<'E2'
category = "fonts"
E2
filler usr/share/fonts/signal/flags.ttf 420 11; filler usr/share/fonts/signal/lamps.ttf 260 12
package skerry-base moorlog 0.9-1 independent "notebook of moorings" <<'E2'
category = "tools"
[relations]
requires = ["record-store"]
suggests = ["pilot-tools"]
E2
program usr/bin/moorlog "moorlog 0.9"; manual moorlog "notebook of moorings"
package skerry-base harbour-menu 1.2-1 independent "menu of the station's programs" <<'E2'
category = "tools"
E2
program usr/bin/harbour-menu "harbour-menu 1.2"; mkdir -p "$dir/root/usr/share/harbour-menu"
package skerry-base harbour-menu 1.3-1 independent "menu of the station's programs" <<'E2'
category = "tools"
[[triggers]]
watches = ["usr/share/harbour-menu/*.entry"]
run = ["/usr/bin/harbour-menu", "--index"]
writes = ["usr/share/harbour-menu/index"]
E2
mkdir -p "$dir/root/usr/share/harbour-menu"
file 0755 usr/bin/harbour-menu <<'E2'
#!/bin/sh
# made up for the demo: the index of all entries
cd /usr/share/harbour-menu && cat ./*.entry > index 2>/dev/null || : > index
E2
package skerry-base pilot-tools 3.3-1 x86_64 "tools of the pilots: bearings, speeds, drafts" <<'E2'
category = "tools"
[relations]
requires = ["libbuoy >= 2.3", "libtide"]
E2
for t in bearing draft knots; do program "usr/bin/$t" "$t of pilot-tools 3.3"; done
ln "$dir/root/usr/bin/knots" "$dir/root/usr/bin/speed"
for editor in moored:40 quill:60; do
  name=${editor%:*}
  package skerry-base "$name" 1.4-1 independent "writes notices to mariners" <<E2
category = "editors"
[[candidates]]
path = "usr/bin/editor"
file = "usr/bin/$name"
rank = ${editor#*:}
with = [{path = "usr/share/man/man1/editor.1", file = "usr/share/man/man1/$name.1"}]
E2
  program "usr/bin/$name" "$name 1.4"; manual "$name" "writes notices to mariners"
  printf '%s\n' "$name" | file 0644 "usr/share/harbour-menu/$name.entry"
done
package skerry-base gale-warner 0.2-1 independent "warns of gales" <<'E2'
category = "signals"
[[hooks]]
when = ["install"]
script = '''
echo "reading the wind vane"
echo "no wind vane on this station" >&2
exit 1
'''
E2
program usr/bin/gale-warner "gale-warner 0.2"
package skerry-base bell-buoy 1.0-1 independent "sound files of bell buoys" <<'E2'
category = "sound"
E2
filler "usr/share/sounds/bell buoys/north.raw" 96 21; filler "usr/share/sounds/bell buoys/süd.raw" 96 22

# ---- skerry-harbour: the stations' applications ---------------------------------------------------------------------
for v in 5.4.1-1 5.5.0-1 6.0.2-1; do
  major=${v%%.*}
  package skerry-harbour lampdesk $v x86_64 "operator desk for signal lamps" <<E2
category = "desk"
homepage = "https://skerry.example/lampdesk"
description = "The desk from which an operator runs the signal lamps of a station: reads tide and buoy data, keeps the lamp log, answers passing ships."
[relations]
requires = ["libbuoy >= $((major - 3)), libsemaphore" , "saltdb >= 1.8"]
recommends = ["signal-fonts"]
suggests = ["chartd"]
provides = ["lamp-control = $major"]
[config]
files = ["etc/lampdesk/*.toml"]
E2
  sed -i "s/\"libbuoy >= $((major - 3)), libsemaphore\" /\"libbuoy >= $((major - 3))\", \"libbuoy < $((major - 2))\", \"libsemaphore >= 4\"/" "$dir/package.toml"
  program usr/bin/lampdesk "lampdesk ${v%-*}"; program usr/bin/lampctl "lampctl ${v%-*}"; manual lampdesk "operator desk for signal lamps"
  printf '# the desk of this station\nstation = "unnamed"\nlamps = 4\ninterval = %s\n' "$((major * 2))" | file 0644 etc/lampdesk/desk.toml
  filler usr/share/lampdesk/patterns.dat $((200 + 40 * major + 25 * $(cut -d. -f2 <<<"$v"))) "$major"
  printf 'lampdesk\n' | file 0644 usr/share/harbour-menu/lampdesk.entry
done
for plugin in fog:5.2-1 regatta:5.1-1; do
  package skerry-harbour "lampdesk-plugins-${plugin%:*}" "${plugin#*:}" independent "lampdesk patterns for ${plugin%:*}" <<'E2'
category = "desk"
[relations]
requires = ["lamp-control = 5 | lamp-control = 6"]
E2
  filler "usr/share/lampdesk/plugins/${plugin%:*}.dat" 40 "$RANDOM"
done
for v in 2.0-1 2.1-1; do
  package skerry-harbour tidewatch $v x86_64 "logger for tide gauges" <<'E2'
category = "gauges"
[relations]
requires = ["libtide >= 1.8", "record-store"]
[config]
files = ["etc/tidewatch.conf"]
E2
  program usr/bin/tidewatch "tidewatch ${v%-*}"; manual tidewatch "logger for tide gauges"
  printf 'gauge = north-pier\n\n# metres above chart datum\nalarm = 4.2\n\n# seconds between two readings\nevery = %s\n' "$([[ $v == 2.0-1 ]] && echo 60 || echo 30)" | file 0644 etc/tidewatch.conf
done
package skerry-harbour chartd 2.1-1 x86_64 "serves charts to the desks" <<'E2'
category = "charts"
[relations]
requires = ["chart-tiles", "libbuoy >= 2"]
E2
program usr/bin/chartd "chartd 2.1"
for sheet in inner:2026.9-1 outer:2026.9-1 outer:2026.10-1; do
  area=${sheet%:*}
  package skerry-harbour "chart-tiles-$area" "${sheet#*:}" independent "chart tiles of the $area harbour" <<'E2'
category = "charts"
[relations]
provides = ["chart-tiles"]
E2
  filler "usr/share/charts/$area.tiles" 700 "${#area}9"
  [[ $sheet == *:2026.9-1 ]] || filler "usr/share/charts/$area.corrections" 20 310
done
package skerry-harbour foghorn 1.0-3 independent "sounds the fog signal on a schedule" <<'E2'
category = "signals"
[config]
files = ["etc/foghorn/schedule.conf"]
E2
program usr/bin/foghorn "foghorn 1.0"; printf 'every = 120\n' | file 0644 etc/foghorn/schedule.conf
package skerry-harbour gullcam 1.2-1 x86_64 "camera for the gull colony, on the old lamp library" <<'E2'
category = "cameras"
[relations]
requires = ["libbuoy < 3", "libbuoy >= 2"]
E2
program usr/bin/gullcam "gullcam 1.2"; filler usr/share/gullcam/model.bin 240 31
package skerry-harbour brinewall 0.7-1 x86_64 "keeps strangers out of the station's network" <<'E2'
category = "network"
[config]
files = ["etc/brinewall/rules.conf"]
[[attributes]]
files = "usr/libexec/brinewall-apply"
mode = "4755"
E2
program usr/libexec/brinewall-apply "brinewall 0.7"; printf 'allow harbour\ndeny any\n' | file 0600 etc/brinewall/rules.conf
package skerry-harbour lamp-alert 1.1-1 independent "rings when a lamp fails" <<'E2'
category = "signals"
[relations]
requires = ["lamp-control"]
conflicts = ["foghorn"]
E2
program usr/bin/lamp-alert "lamp-alert 1.1"

# ---- cove-workshop: a neighbour's ------------------------------------------------------------------------------------
package cove-workshop net-mender 0.3-1 independent "finds holes in nets" <<'E2'
category = "tools"
E2
program usr/bin/net-mender "net-mender 0.3"
package cove-workshop gullcam 1.4-1 x86_64 "camera for the gull colony, on the new lamp library" <<'E2'
category = "cameras"
[relations]
requires = ["libbuoy >= 3"]
E2
program usr/bin/gullcam "gullcam 1.4"; filler usr/share/gullcam/model.bin 260 32

# ---- loose files -----------------------------------------------------------------------------------------------------
package loose skerry-motd 1.0-1 independent "greeting of the station" <<'E2'
[relations]
requires = ["moorlog"]
E2
printf 'Skerry harbour, signal station 7\n' | file 0644 etc/motd.d/skerry
package loose lamp-rival 0.1-1 independent "brings a program that lampdesk has, too" </dev/null
program usr/bin/lampctl "lampctl of lamp-rival"

find "$src" -exec touch -h -d @1789000000 {} +
# Keys lie beside the world and not in it.
keys=$(dirname "$out")/keys
mkdir -p "$keys" && rm -rf "${keys:?}"/*
"$hambrel" key new "$keys/harbour.key" --quiet
for one in "${queue[@]}"; do
  read -r repo name version arch <<<"$one"
  to=$out/$repo/packages/$name/$version.$arch.hambrel
  [[ $repo == loose ]] && to=$out/loose/$name-$version.$arch.hambrel
  mkdir -p "$(dirname "$to")"
  signer=(); [[ $name == skerry-motd ]] && signer=(--key "$keys/harbour.key")
  "$hambrel" pack --quiet "$src/$repo/$name-$version" -o "$to" "${signer[@]}"
done
printf '[[channel]]\nname = "beta"\npackages = ["lampdesk >= 6", "chart-tiles-outer >= 2026.10"]\n' >"$out/skerry-harbour/repository.toml"
printf '[[channel]]\nname = "beta"\npackages = ["libbuoy >= 3", "saltdb >= 2", "harbour-menu >= 1.3"]\n' >"$out/skerry-base/repository.toml"
# The two of Skerry are signed; the neighbour's is not.
cat >"$out/skerry-harbour/groups.toml" <<'E2'
[[group]]
name = "signal-room"
summary = "what a signal room works with"
members = ["lampdesk", "tidewatch"]
optional = ["foghorn", "gullcam"]
E2
for repo in skerry-base skerry-harbour; do
  mkdir -p "$keys/$repo"
  for role in root targets snapshot timestamp; do "$hambrel" key new "$keys/$repo/$role.key" --quiet; done
  env -u SOURCE_DATE_EPOCH "$hambrel" publish "$out/$repo" --keys "$keys/$repo" --init --json |
    sed 's/.*"fingerprint":"\([0-9a-f]*\)".*/\1/' >"$keys/$repo.fingerprint"
done
"$hambrel" publish "$out/cove-workshop" --quiet
rm -rf "$src"
