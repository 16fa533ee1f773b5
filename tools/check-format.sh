#!/usr/bin/env bash
# check-format.sh [--fix] - is every source file formatted as .clang-format says? Skipped where clang-format is missing.
set -euo pipefail
cd "$(dirname "$0")/.."
command -v clang-format >/dev/null || { echo 'format: not checked, clang-format is not installed (tools/setup.sh lint)'; exit 0; }
if [[ ${1:-} == --fix ]]; then git ls-files '*.cpp' '*.h' | xargs clang-format -i; exit; fi
git ls-files '*.cpp' '*.h' | xargs clang-format --dry-run --Werror && echo 'format: as .clang-format says'
