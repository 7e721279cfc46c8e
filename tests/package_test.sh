#!/bin/sh
# Installs the build into a folder of its own, builds the example consumer against it and runs it.
set -eu
build=$1
source=$2
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cmake --install "$build" --prefix "$work/installed" >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }
cmake -G Ninja -S "$source/examples/consumer" -B "$work/consumer" -DCMAKE_BUILD_TYPE=Release \
  -DCMAKE_PREFIX_PATH="$work/installed" >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }
cmake --build "$work/consumer" >"$work/log" 2>&1 || { cat "$work/log"; exit 1; }
"$build/demo_disks/make_disks" "$work/disks" >/dev/null
"$work/consumer/look" "$work/disks/logger.img" | tee "$work/out"
grep -q 'p6 HYDROPHONE' "$work/out"
"$work/installed/bin/nuvrat" survey "$work/disks/logger.img" | grep -q 'MBR with 5 partitions'
