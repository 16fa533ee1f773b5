#!/usr/bin/env bash
# ledger.sh [DIR] - what a long record costs: the same 300 packages in two roots in DIR (default: build/bench-ledger), one
# with the transaction that installed them, one with 2,000 transactions more and an attic of 100; commands in turn, whole
# processes. RUNS=N: medians of so many pairs (default: 21).
set -euo pipefail
cd "$(dirname "$0")/.."
directory=$(realpath -m "${1:-build/bench-ledger}")
program=${HAMBREL:-build/release/src/hambrel}
[[ -x $program ]] || { tools/setup.sh build; cmake --preset release >/dev/null; cmake --build --preset release --target hambrel; }
mkdir -p "$directory"
RUNS=${RUNS:-21} exec python3 bench/ledger.py "$(realpath "$program")" "$directory"
