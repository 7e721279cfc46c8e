#!/bin/sh
# The package as its users get it: installed into a folder and built against, by CMake and by
# pkg-config; then as Debian packages, installed, run, removed.
set -eu
build=$1
source=$2
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
quietly() { "$@" >"$work/log" 2>&1 || { echo "failed: $*"; cat "$work/log"; exit 1; }; }
quietly cmake --install "$build" --prefix "$work/installed"
"$build/demo_disks/make_disks" "$work/disks" >/dev/null

quietly cmake -G Ninja -S "$source/examples/consumer" -B "$work/consumer" -DCMAKE_BUILD_TYPE=Release \
  -DCMAKE_PREFIX_PATH="$work/installed"
quietly cmake --build "$work/consumer"
"$work/consumer/look" "$work/disks/logger.img" | grep -q 'p6 HYDROPHONE'

PKG_CONFIG_PATH=$(dirname "$(find "$work/installed" -name nuvrat.pc)")
export PKG_CONFIG_PATH
# shellcheck disable=SC2046
quietly g++ -std=c++20 "$source/examples/consumer/look.cpp" -o "$work/look" $(pkg-config --cflags --libs nuvrat)
"$work/look" "$work/disks/logger.img" | grep -q 'p6 HYDROPHONE'
# Moved elsewhere, it is found there.
mv "$work/installed" "$work/moved"
PKG_CONFIG_PATH=$(dirname "$(find "$work/moved" -name nuvrat.pc)")
# shellcheck disable=SC2046
quietly g++ -std=c++20 "$source/examples/consumer/look.cpp" -o "$work/look" $(pkg-config --cflags --libs nuvrat)
"$work/look" "$work/disks/logger.img" | grep -q 'p6 HYDROPHONE'
[ "$(pkg-config --modversion nuvrat)" = "$("$work/moved/bin/nuvrat" --version | sed 's/Nuvrat //')" ]

if [ -e /usr/bin/nuvrat ]; then
  echo "a nuvrat is installed here: remove it, so that this test need not"
  exit 1
fi
as_root=
[ "$(id -u)" = 0 ] || as_root=sudo
quietly cpack --config "$build/CPackConfig.cmake" -B "$work/packages"
quietly $as_root dpkg -i "$work"/packages/*.deb
/usr/bin/nuvrat survey "$work/disks/logger.img" | grep -q 'MBR with 5 partitions'
# Asked of the packages, because a small system may be set to leave man pages out.
for package in "$work"/packages/*.deb; do dpkg-deb -c "$package"; done >"$work/files"
for file in /usr/share/man/man1/nuvrat.1.gz /usr/share/man/man1/nuvrat-fetch.1.gz \
  /usr/share/doc/nuvrat/copyright /usr/share/doc/libnuvrat-dev/changelog.gz /usr/share/bash-completion/completions/nuvrat \
  /usr/share/zsh/vendor-completions/_nuvrat /usr/share/fish/vendor_completions.d/nuvrat.fish \
  /usr/include/nuvrat/nuvrat.h; do
  grep -q "$file" "$work/files" || { echo "no package has $file"; exit 1; }
done
quietly $as_root dpkg -r nuvrat libnuvrat-dev
[ ! -e /usr/bin/nuvrat ] || { echo "nuvrat was not removed"; exit 1; }
