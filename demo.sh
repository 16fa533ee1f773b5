#!/usr/bin/env bash
# demo.sh - set up, build, and play the Skerry harbour story, served by a real HTTP server on loopback.
set -euo pipefail
cd "$(dirname "$0")"
tools/setup.sh build demo
cmake --preset release -DHAMBREL_TESTS=OFF -DHAMBREL_FAULT_POINTS=ON >/dev/null
cmake --build --preset release
HAMBREL=$PWD/build/release/src/hambrel exec demo/story.sh
