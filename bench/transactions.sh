#!/usr/bin/env bash
# transactions.sh [DIR [SCRIPT]] - measures installing, upgrading and undoing on real files, on a fresh ext4 with a journal in a
# loop image in DIR (default: build/bench-txn), against tar and cp of the same files in the same run. Needs root.
# The payload is made of files at hand: 20,000 of them, about 600 MB. Prints medians of 5 and ratios.
set -euo pipefail
cd "$(dirname "$0")/.."
directory=$(realpath -m "${1:-build/bench-txn}")
program=${HAMBREL:-build/release/src/hambrel}
[[ -x $program ]] || { tools/setup.sh build; cmake --preset release >/dev/null; cmake --build --preset release --target hambrel; }
mkdir -p "$directory"
exec python3 "bench/${2:-transactions.py}" "$(realpath "$program")" "$directory"
