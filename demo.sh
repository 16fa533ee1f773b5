#!/usr/bin/env bash
# demo.sh [CHAPTER] - set up, build, and play the Skerry harbour story, served by a real HTTP server on loopback.
# On a terminal it waits for Enter between chapters. CHAPTER: show only that one.
set -euo pipefail
cd "$(dirname "$0")"
echo "1 of 3: packages that are needed"
tools/setup.sh build demo
echo "2 of 3: the build (five to twelve minutes the first time)"
cmake --preset release -DHAMBREL_TESTS=OFF -DHAMBREL_FAULT_POINTS=ON >/dev/null
cmake --build --preset release
echo "3 of 3: the story"
DEMO_CHAPTER=${1:-} HAMBREL=$PWD/build/release/src/hambrel exec demo/story.sh
