#!/usr/bin/env bash
# test.sh - set up, build and run every test. Options for one run: PRESET=asan ./test.sh, ./test.sh -R regex (ctest's).
set -euo pipefail
cd "$(dirname "$0")"
preset=${PRESET:-release}
tools/setup.sh build test demo
cmake --preset "$preset" -DHAMBREL_TESTS=ON >/dev/null
cmake --build --preset "$preset"
tools/check-structure.sh
tools/check-format.sh
ctest --preset "$preset" "$@"
