#!/usr/bin/env bash
# setup.sh [GROUP...] - install the Debian packages of packages.txt that are missing (groups: build test demo screenshots endurance lint).
# Quiet and quick when there is nothing to do.
set -euo pipefail
cd "$(dirname "$0")/.."
[[ $# -gt 0 ]] || set -- build test demo
wanted=() group='' line=''
while read -r line; do
  line=${line%%#*}; line=${line%% *}
  case $line in
    '') ;;
    '['*']') group=${line#[}; group=${group%]} ;;
    *) [[ " $* " == *" $group "* ]] && wanted+=("$line") ;;
  esac
done <packages.txt
missing=()
for name in "${wanted[@]}"; do
  [[ $(dpkg-query -W -f '${db:Status-Status}' "$name" 2>/dev/null) == installed ]] || missing+=("$name")
done
((${#missing[@]})) || exit 0
echo "setup: installing ${missing[*]}"
as_root=()
if ((EUID != 0)); then
  command -v sudo >/dev/null || { echo "setup: these packages are missing, and only root can install them: ${missing[*]}" >&2; exit 1; }
  as_root=(sudo)
fi
export DEBIAN_FRONTEND=noninteractive
"${as_root[@]}" apt-get update -qq
"${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
