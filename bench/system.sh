#!/usr/bin/env bash
# system.sh [DIR] - a system of at least 500 packages, 100,000 files and 4 GiB goes in and comes out, is upgraded and checked,
# on a fresh ext4 with a journal in a loop image in DIR (default: build/bench-system), against tar, cp, sha256sum and find in the
# same run. The payload is made of files of this machine, whole directories for each package. Needs root and 40 GiB.
# PACKAGES=N: of so many packages; RUNS=N: medians of so many runs (default: 5); FS=xfs, btrfs or tmpfs: there instead.
set -euo pipefail
cd "$(dirname "$0")/.."
directory=$(realpath -m "${1:-build/bench-system}")
program=${HAMBREL:-build/release/src/hambrel}
[[ -x $program ]] || { tools/setup.sh build; cmake --preset release >/dev/null; cmake --build --preset release --target hambrel; }
mkdir -p "$directory"
exec python3 bench/system.py "$(realpath "$program")" "$directory"
