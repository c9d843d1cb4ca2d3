#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# The potter's wheel on an emulated Cortex-M4F board: core, link and a compact motor model run on
# the target, and `corvak tune` talks to it over the emulated serial line. With a session file that
# is done and the board is switched off; without one the board runs until Ctrl-C.
# Usage: board.sh HOST_BUILD [SESSION]
set -eu
cd "$(dirname "$0")/.."
host=$(realpath "$1")
program=build/cortex-m4f/ports/cortex_m4f/wheel_on_board
[ -e "$program" ] || { echo "$program is missing: make core builds it" >&2; exit 2; }
said=$(mktemp)
qemu-system-arm -M mps2-an386 -display none -monitor none -serial pty -kernel "$program" >"$said" 2>&1 &
board=$!
trap 'kill $board 2>/dev/null || true; rm -f "$said"' EXIT
for _ in $(seq 100); do
    line=$(grep -o '/dev/pts/[0-9]*' "$said" || true)
    [ -n "$line" ] && break
    sleep 0.1
done
[ -n "$line" ] || { cat "$said" >&2; exit 1; }
echo "the board's serial line: corvak tune serial:$line --lease 5"
if [ $# -gt 1 ]; then
    "$host/corvak" tune "serial:$line" -x "$2" --lease 5
else
    wait "$board"
fi
