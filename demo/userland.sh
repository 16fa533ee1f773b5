#!/usr/bin/env bash
# userland.sh ROOT [PROGRAM|LIBRARY...] - a shell and a few programs of this machine, with the libraries that they need,
# below ROOT: enough for what packages run in the demo and in tests. More are given by name, libraries by path.
set -euo pipefail
root=$1
mkdir -p "$root"/{usr/bin,usr/sbin,usr/lib,tmp,etc}
for link in bin sbin lib; do [[ -e $root/$link ]] || ln -s "usr/$link" "$root/$link"; done
programs=(dash cat mkdir rm mv ln chmod chown mknod mkfifo sleep touch ls id head)
shift
for one in "${programs[@]}" "$@"; do
  file=$(command -v "$one" || echo "$one")
  if [[ $file == */lib*.so* ]]; then mkdir -p "$root/${file%/*}"; cp -L "$file" "$root/$file"; else cp -L "$file" "$root/usr/bin/${one##*/}"; fi
  ldd "$file"
done | sed -nE 's/^.*(=> |^\s*)(\/[^ ]+) .*$/\2/p' | sort -u | while read -r library; do
  to=$root/${library#/}
  mkdir -p "$(dirname "$to")"
  [[ -e $to ]] || cp -L "$library" "$to"
done
ln -sf dash "$root/usr/bin/sh"
[[ -e $root/etc/passwd ]] || echo 'root:x:0:0:root:/root:/bin/sh' > "$root/etc/passwd"
[[ -e $root/etc/group ]] || echo 'root:x:0:' > "$root/etc/group"
