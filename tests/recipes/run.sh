#!/usr/bin/env bash
# run.sh [HAMBREL] - builds real programs from their upstream sources, runs them, changes an option, and takes it back.
#
# Fetches the sources that the recipes beside it name (about 6 MB, from Debian's archive) and takes a few minutes, so it
# is not among the tests of every build. Needs root, a C and C++ compiler, make, cmake, ninja, patch and a network.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
exec python3 "$here/run.py" "${1:-$here/../../build/release/src/hambrel}"
