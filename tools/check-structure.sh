#!/usr/bin/env bash
# check-structure.sh - fails on an include that points upwards, on a way to the disk that goes round os::FileSystem, and on
# files over 500 lines, functions over 60, and several statements in one.
set -euo pipefail
cd "$(dirname "$0")/.."
declare -A below=(
  [base]='' [os]='base' [model]='base'
  [archive]='os model base' [state]='os model base' [solve]='model base' [plan]='solve model base'
  [settings]='os model base' [trust]='model base' [repo]='trust settings archive os model base'
  [services]='settings os model base'
  [rehearsal]='plan state os model base'
  [txn]='rehearsal plan archive state os model base'
  [build]='operations repo plan solve settings archive trust os model base'
  [report]='operations plan repo solve model os base'
  [operations]='services rehearsal txn repo plan solve trust settings archive state os model base'
)
bad=0
complain() { echo "structure: $*" >&2; bad=1; }
while IFS=: read -r file _ line; do
  room=${file#src/core/}; room=${room%%/*}
  target=${line#*\"}; target=${target%%/*}
  [[ -v below[$room] ]] || { complain "$file: the room $room is not known here"; continue; }
  [[ $target == "$room" || " ${below[$room]} " == *" $target "* ]] || complain "$file includes ${line#*\"} - $room may only see: ${below[$room]:-nothing else}"
done < <(grep -rnE '^#include "' src/core)
# the core knows no terminal, no arguments; only os/ reaches the operating system's files
while IFS=: read -r file _ line; do
  complain "$file: ${line} belongs into src/core/os"
done < <(grep -rnE '^#include <(fcntl\.h|unistd\.h|sys/[a-z]+\.h|dirent\.h|filesystem|fstream|cstdio|stdio\.h)>' src/core --include='*.h' --include='*.cpp' | grep -v '^src/core/os/')
while IFS=: read -r file _ line; do
  complain "$file: ${line} - the program reaches files through os::FileSystem"
done < <(grep -rnE '^#include <(fcntl\.h|dirent\.h|sys/stat\.h|filesystem|fstream)>' src/cli)
# the program knows use cases and plain values, nothing below them
while IFS=: read -r file _ line; do
  complain "$file: ${line} - src/cli sees operations, build, report, plan, model and base; of os the host alone"
done < <(grep -rnE '^#include "(state|txn|solve|archive|repo|trust|settings|services)/|^[^/]*\b(state|txn|solve|archive|repo|trust|settings|services)::|^#include <(sqlite3|SQLiteCpp|archive)' src/cli)
while IFS=: read -r file _ line; do
  complain "$file: ${line} - only the state knows SQLite"
done < <(grep -rnE '^#include <(sqlite3\.h|SQLiteCpp/)' src --include='*.h' --include='*.cpp' | grep -v '^src/core/state/')
# a command makes a request of its options; what is shown of values, as text and as JSON, is made in show/
while IFS=: read -r file _ line; do
  complain "$file: ${line} belongs into src/cli/show"
done < <(grep -rnE '^#include "cli/terminal/table\.h"|^(nlohmann::)?[Jj]son (to_json|document_of)\(|\bTable [a-z_]+[;(]' src/cli/commands)
# what is too long to be read in one go; tables of data aside
while read -r lines file; do
  complain "$file has $lines lines: at most 500"
done < <(find src tests -name '*.cpp' -o -name '*.h' | xargs wc -l | awk '$1 > 500 && $2 != "total" { print $1, $2 }')
while IFS= read -r line; do
  complain "$line: at most 60"
done < <(find src -name '*.cpp' -o -name '*.h' | grep -v '/command_table' | sort | xargs awk -v limit=60 -f tools/function-lengths.awk)
# what the kernel says of a write, a sync or a close is looked at
while IFS=: read -r file _ line; do
  complain "$file: ${line} - its result is ignored"
done < <(grep -rnE '^\s*(\(void\)|static_cast<void>\()?\s*::(fsync|syncfs|fdatasync|close|write|pwrite|ftruncate)\(' src --include='*.cpp' --include='*.h')
while IFS=: read -r file _ line; do
  complain "$file: ${line} - the core has no interface code"
done < <(grep -rnE '^#include (<boost/program_options|<iostream>|"cli/)' src/core)
# one statement a line; a choice in a choice is written out
several=$(find src tests bench demo -name '*.cpp' -o -name '*.h' | sort | xargs python3 tools/several-in-one.py) ||
  complain "more than one statement, or a conditional operator in a branch of another:"$'\n'"$several"
((bad == 0)) && echo "structure: includes point downwards, files are reached through os::FileSystem, nothing is too long"
exit "$bad"
