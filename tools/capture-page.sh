#!/usr/bin/env bash
# capture-page.sh PAGE.html OUT.png [WxH] - a picture of a page as a browser shows it (Debian: chromium, imagemagick).
set -euo pipefail
[[ $# -ge 2 && -s $1 ]] || { echo 'usage: capture-page.sh PAGE.html OUT.png [WxH]' >&2; exit 2; }
page=$(realpath "$1") out=$(realpath -m "$2") size=${3:-1280x800}
dir=$(mktemp -d); trap 'rm -rf "$dir"' EXIT
HOME=$dir timeout 60 chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --hide-scrollbars \
  --force-device-scale-factor=1 --user-data-dir="$dir/profile" --window-size="${size%x*},$((${size#*x} + 100))" \
  --screenshot="$dir/shot.png" "file://$page" >"$dir/log" 2>&1 || { tail -5 "$dir/log" >&2; exit 3; }
# the window's own part at its lower end stays away
convert "$dir/shot.png" -crop "${size}+0+0" +repage -strip "$out"
(($(identify -format %k "$out") > 1)) || { echo 'capture-page: the picture is blank' >&2; exit 4; }
