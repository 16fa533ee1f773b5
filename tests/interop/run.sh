#!/usr/bin/env bash
# run.sh [PROGRAM] - another implementation of the TUF specification reads what Hambrel signs, through exchanged keys, and
# Hambrel reads what it signs. Needs node and npm, and the registry for its packages (package-lock.json): not a part of
# ./test.sh. Skipped with a message where they are not there.
set -euo pipefail
here=$(dirname "$(realpath "$0")")
program=$(realpath "${1:-$here/../../build/release/src/hambrel}")
command -v node >/dev/null && command -v npm >/dev/null || { echo 'skipped: node and npm are needed'; exit 0; }
work=$(mktemp -d "${TMPDIR:-/tmp}/hambrel-interop.XXXXXX")
trap '[[ ${server:-} ]] && kill $server 2>/dev/null; rm -rf "$work"' EXIT
cp "$here"/package.json "$here"/package-lock.json "$here"/*.mjs "$work"
cd "$work"
npm ci --silent --no-audit --no-fund >npm.log 2>&1 || { echo 'skipped: the registry cannot be reached'; tail -3 npm.log; exit 0; }
hambrel() { "$program" "$@"; }
package() { # package REPOSITORY NAME VERSION
  mkdir -p "src/$2-$3/root/usr/bin" "$1/packages/$2"
  echo "$2 $3" >"src/$2-$3/root/usr/bin/$2"
  printf 'name = "%s"\nversion = "%s"\narch = "independent"\nsummary = "%s"\n' "$2" "$3" "$2" >"src/$2-$3/package.toml"
  hambrel pack -q "src/$2-$3" -o "$1/packages/$2/$3.independent.hambrel"
}
hambrel serve . --port 0 --quiet >serve.log &
server=$!
for ((i = 0; i < 1200; i++)); do url=$(sed -n 's|.* at \(http://[^ ]*\).*|\1|p' serve.log); [[ $url ]] && break; sleep 0.05; done

echo "1. $(node -p 'require("./node_modules/tuf-js/package.json").name + " " + require("./node_modules/tuf-js/package.json").version') reads what hambrel publish signed"
mkdir keys state
for role in root targets snapshot timestamp; do hambrel key new "keys/$role.key" -q; done
package ours lamp 1-1
hambrel publish ours --keys keys --init | head -1
cp ours/trust/1.root.json state/root.json
node read.mjs state "$url/ours" index/full-1.jsonl.zst
cmp state/target ours/index/full-1.jsonl.zst

mkdir old && mv keys/timestamp.key old/ && hambrel key new keys/timestamp-b.key -q
hambrel publish ours --keys keys --rotate timestamp
node read.mjs state "$url/ours" index/full-1.jsonl.zst
mv keys/root.key keys/targets.key old/
hambrel key new keys/root-b.key -q; hambrel key new keys/targets-b.key -q; hambrel key new keys/targets-c.key -q
package ours lamp 2-1
hambrel publish ours --keys keys --key old/root.key --rotate root --rotate targets --threshold targets=2
node read.mjs state "$url/ours" index/full-2.jsonl.zst
cmp state/target ours/index/full-2.jsonl.zst
rm -rf fresh && mkdir fresh && cp ours/trust/1.root.json fresh/root.json
echo '  from the first root on, at once:'
node read.mjs fresh "$url/ours" index/full-2.jsonl.zst
echo '  what was changed on the way:'
sed -i 's/"length":[0-9]*/"length":77/' ours/trust/timestamp.json
node read.mjs state "$url/ours" index/full-2.jsonl.zst refused

echo '2. hambrel reads what @tufjs/models signed'
package theirs oar 1-1
hambrel publish theirs -q && rm -r theirs/trust
fingerprint=$(node sign.mjs theirs their-keys 1 1)
mkdir -p root/{etc,var/lib,var/cache}
hambrel --root root repo add theirs "$url/theirs" --fingerprint "$fingerprint" -q
hambrel --root root refresh
hambrel --root root install oar -y -q
hambrel --root root list
package theirs oar 2-1
rm -rf again && mkdir again && cp -r theirs/packages again && hambrel publish again -q
cp again/index/full-1.jsonl.zst theirs/index/full-2.jsonl.zst
node sign.mjs theirs their-keys 2 2 plain >/dev/null
echo '  after they have exchanged the keys of root and timestamp:'
hambrel --root root refresh
hambrel --root root upgrade -y -q
hambrel --root root list
hambrel --root root repo show theirs | tail -4
echo '  what was changed on the way:'
sed -i 's/"version": 2/"version": 3/' theirs/trust/timestamp.json
code=0; hambrel --root root refresh 2>&1 || code=$?
[[ $code == 5 ]] || { echo "the exit code was $code, 5 was expected"; exit 1; }
echo 'Both read each other.'
