#!/usr/bin/env bash
# check-structure.sh - fails on an include that points upwards, and on a way to the disk that goes round os::FileSystem.
set -euo pipefail
cd "$(dirname "$0")/.."
declare -A below=(
  [base]='' [os]='base' [model]='base'
  [archive]='os model base' [state]='os model base' [solve]='model base' [plan]='solve model base'
  [repo]='archive os model base' [txn]='plan archive state os model base'
  [operations]='txn repo plan solve archive state os model base'
)
bad=0
complain() { echo "structure: $*" >&2; bad=1; }
while IFS=: read -r file _ line; do
  room=${file#src/core/}; room=${room%%/*}
  target=${line#*\"}; target=${target%%/*}
  [[ $target == "$room" || " ${below[$room]} " == *" $target "* ]] || complain "$file includes ${line#*\"} - $room may only see: ${below[$room]:-nothing else}"
done < <(grep -rnE '^#include "' src/core)
# the core knows no terminal, no arguments; only os/ reaches the operating system's files
while IFS=: read -r file _ line; do
  complain "$file: ${line} belongs into src/core/os"
done < <(grep -rnE '^#include <(fcntl\.h|unistd\.h|sys/[a-z]+\.h|dirent\.h|filesystem|fstream|cstdio|stdio\.h)>' src/core --include='*.h' --include='*.cpp' | grep -v '^src/core/os/')
while IFS=: read -r file _ line; do
  complain "$file: ${line} - the program reaches files through os::FileSystem"
done < <(grep -rnE '^#include <(fcntl\.h|dirent\.h|sys/stat\.h|filesystem|fstream)>' src/cli)
# what the kernel says of a write, a sync or a close is looked at
while IFS=: read -r file _ line; do
  complain "$file: ${line} - its result is ignored"
done < <(grep -rnE '^\s*(\(void\)|static_cast<void>\()?\s*::(fsync|syncfs|fdatasync|close|write|pwrite|ftruncate)\(' src --include='*.cpp' --include='*.h')
while IFS=: read -r file _ line; do
  complain "$file: ${line} - the core has no interface code"
done < <(grep -rnE '^#include (<boost/program_options|<iostream>|"cli/)' src/core)
((bad == 0)) && echo "structure: includes point downwards, files are reached through os::FileSystem"
exit "$bad"
