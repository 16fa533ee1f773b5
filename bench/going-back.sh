#!/usr/bin/env bash
# going-back.sh [DIR] - measures undo, rollback, activate, verify, repair and the space of a checkpoint, as
# transactions.sh does and with its payload, as 30 packages. Needs root. Prints medians of 5 (RUNS) and ratios.
exec "$(dirname "$0")/transactions.sh" "${1:-build/bench-txn}" going_back.py
