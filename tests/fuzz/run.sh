#!/usr/bin/env bash
# run.sh [SECONDS] [TARGET...] - feeds hostile inputs to package, text and journal (default: all, 60 s each), each built
# with the address and undefined-behaviour sanitizers, beginning with tests/fuzz/corpus. A finding is kept in
# build/fuzz/found; what was learnt, in build/fuzz/learnt.
set -euo pipefail
cd "$(dirname "$0")/../.."
seconds=${1:-60}
shift || true
(($#)) || set -- package text journal
tools/setup.sh build test fuzz
cmake --preset fuzz >/dev/null
cmake --build --preset fuzz --target "${@/#/hambrel_fuzz_}"
mkdir -p build/fuzz/found
for target in "$@"; do
  mkdir -p "build/fuzz/learnt/$target"
  build/fuzz/tests/hambrel_fuzz_"$target" -max_total_time="$seconds" -timeout=20 -rss_limit_mb=2048 -max_len=20000 \
    -artifact_prefix="build/fuzz/found/$target-" -print_final_stats=1 \
    "build/fuzz/learnt/$target" "tests/fuzz/corpus/$target" 2>"build/fuzz/$target.log" ||
    { tail -n 40 "build/fuzz/$target.log"; exit 1; }
  echo "$target: $(grep -Eo 'number_of_executed_units: *[0-9]+' "build/fuzz/$target.log" | grep -Eo '[0-9]+') inputs, $(grep -Eo 'cov: [0-9]+' "build/fuzz/$target.log" | tail -n 1 | grep -Eo '[0-9]+') edges, nothing found"
done
