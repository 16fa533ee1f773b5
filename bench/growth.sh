#!/usr/bin/env bash
# growth.sh [DIR] - how time and memory of an install grow with packages and files: parts of the payload of bench/system.sh
# (made there if it is missing), on a fresh ext4 each. Prints a table, and writes the curve to docs/growth.svg. Needs root.
# RUNS=N: medians of so many runs (default: 3).
set -euo pipefail
cd "$(dirname "$0")/.."
directory=$(realpath -m "${1:-build/bench-system}")
program=${HAMBREL:-build/release/src/hambrel}
[[ -x $program ]] || { tools/setup.sh build; cmake --preset release >/dev/null; cmake --build --preset release --target hambrel; }
mkdir -p "$directory"
RUNS=${RUNS:-3} exec python3 bench/growth.py "$(realpath "$program")" "$directory"
