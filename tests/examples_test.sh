#!/bin/sh
# Runs every example on demo disks and looks at what it says: examples_test.sh BUILD
set -eu
bin=$1/examples
work=$(mktemp -d -p "$1")  # not in memory: there a case is refused
trap 'rm -rf "$work"' EXIT
TZ=UTC
export TZ
"$1/demo_disks/make_disks" "$work" >/dev/null
says() {  # says STATUS PATTERN COMMAND...
  status=$1 pattern=$2
  shift 2
  got=0
  "$@" >"$work/out" 2>&1 || got=$?
  if [ "$got" != "$status" ] || ! grep -q "$pattern" "$work/out"; then
    echo "$* ended with $got, not $status; or does not say '$pattern':"
    cat "$work/out"
    exit 1
  fi
}
cp --sparse=always "$work/logger.img" "$work/copy.img"
says 0 "p6 FAT32 'HYDROPHONE', 1.2 GiB free" "$bin/example_survey" "$work/logger.img"
says 0 'nothing was lost' "$bin/example_mbr_to_gpt" "$work/logger.img" "$work/gpt"
grep -q 'Done, and nothing was lost' "$work/gpt/report.html"
says 3 'gpt-already' "$bin/example_mbr_to_gpt" "$work/logger.img" "$work/again"
says 0 'NTFS: 28 files, nothing was lost' "$bin/example_fat32_to_ntfs" "$work/ntfs"
grep -q 'FAT32: every sector as it was' "$work/out"
says 0 '-' "$bin/example_compare_manifests" "$work/copy.img" "$work/logger.img"
says 1 'missing p1/' "$bin/example_compare_manifests" "$work/copy.img" "$work/archive.img"
says 0 'before 00712DE5, after 0EBB71DE, put back 00712DE5' "$bin/example_own_rewrite" "$work/journal"
grep -q 'the guard: ' "$work/out"
says 0 'cut off 6[0-9] times, finished 6[0-9] times, nothing lost' "$bin/example_power_cut" "$work/cuts"
