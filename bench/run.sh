#!/usr/bin/env bash
# run.sh [DIR] - makes the universes of docs/performance.md in DIR (default: build/bench) and measures the program on
# them. Prints a table of medians and of their ratio to P, one simdjson DOM parse of the same indexes in the same run.
set -euo pipefail
cd "$(dirname "$0")/.."
directory=$(realpath -m "${1:-build/bench}")
tools/setup.sh build
cmake --preset release -DHAMBREL_BENCH=ON >/dev/null
cmake --build --preset release --target hambrel hambrel_make_world hambrel_parse_raw
for size in 60000 300000; do
  [[ -f $directory/$size/random.txt ]] || build/release/bench/hambrel_make_world "$directory/$size" "$size" 4
done
exec python3 bench/measure.py build/release/src/hambrel build/release/bench/hambrel_parse_raw "$directory"
