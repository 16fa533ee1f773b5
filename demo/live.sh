#!/usr/bin/env bash
# live.sh STATION HAMBREL DIRECTORY - starts the station as a machine would, in namespaces of its own, with runit as its
# service manager, until it is ended. DIRECTORY/inside then runs the station's own hambrel in it.
set -euo pipefail
station=$1 hambrel=$2 run=$3
libraries=()
for pattern in 'libgit2\.so\..*' 'libsimdjson\.so\..*' 'libcurl\.so\.4'; do  # what it loads when it needs it
  while read -r one; do libraries+=("$one"); done < <(ldconfig -p | sed -n "s|.* => \(.*/$pattern\)$|\1|p" | sort -u)
done
"$(dirname "$0")/userland.sh" "$station" runsvdir runsv sv chpst "$(realpath "$(command -v "$hambrel")")" "${libraries[@]}"
mkdir -p "$station"/{proc,dev,run,etc/service}
unshare --mount --pid --fork --kill-child sh -c "mount -t proc proc '$station/proc' && mount --rbind /dev '$station/dev' &&
  exec chroot '$station' /usr/bin/runsvdir -P /etc/service" </dev/null >/dev/null 2>&1 &
system=$!
trap 'kill -9 "$system" 2>/dev/null; wait "$system" 2>/dev/null; exit 0' TERM INT
for ((i = 0; i < 1200; i++)); do
  first=$(ps -o pid= --ppid "$system" 2>/dev/null | tr -d ' ') || first=
  [[ $first && $(cat "/proc/$first/comm" 2>/dev/null) == runsvdir ]] && break
  first=
  kill -0 "$system" 2>/dev/null || break
  sleep 0.05
done
[[ $first ]] || { echo 'live: the station did not start' >&2; exit 1; }
# whoever calls it names the station as its root, which it is from within
printf '#!/bin/sh\nshift 2\nexec nsenter -t %s --mount --pid --root --wd hambrel "$@"\n' "$first" >"$run/inside.new"
chmod +x "$run/inside.new"
mv "$run/inside.new" "$run/inside"
wait "$system"
