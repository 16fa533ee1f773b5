#!/usr/bin/env bash
# check-format.sh [--fix] - is every source file formatted as .clang-format says? Skipped where clang-format is missing.
set -euo pipefail
cd "$(dirname "$0")/.."
# another version formats otherwise: only the one of Debian 12 is asked
[[ $(clang-format --version 2>/dev/null) == *'version 14.'* ]] || { echo 'format: not checked, there is no clang-format 14 (tools/setup.sh lint)'; exit 0; }
if [[ ${1:-} == --fix ]]; then git ls-files -co --exclude-standard '*.cpp' '*.h' | xargs clang-format -i; exit; fi
git ls-files -co --exclude-standard '*.cpp' '*.h' | xargs clang-format --dry-run --Werror && echo 'format: as .clang-format says'
