#!/usr/bin/env bash
# run.sh kill|cut|full|thin [COUNT] [ext4|xfs [large]] - ends transactions of the real program at random instants on a real file
# system in a loop image, COUNT times (default 300), and checks after each recovery that the root is exactly as before
# or exactly as planned:
#   kill   SIGKILL
#   cut    the power goes: the file system is shut down without flushing its log, and mounted again
#   full   the file system runs full, a little later each time
#   thin   what the disk itself lies on is full for about a second, so that writing back fails (ext4 only); after it is
#          mounted anew, nothing that was said to be done may be otherwise
# large: one of the packages has 130 MB, so that some of it is synced while it is staged (not for full).
# Needs root and loop devices; says so and ends well where they are not to be had. For an hour or a night, not for
# test.sh.
set -euo pipefail
cd "$(dirname "$0")/../.."
tools/setup.sh endurance
program=${HAMBREL:-build/release/src/hambrel}
[[ -x $program ]] || { tools/setup.sh build; cmake --preset release >/dev/null; cmake --build --preset release --target hambrel; }
exec python3 tests/endurance/endurance.py "$(realpath "$program")" "$@"
