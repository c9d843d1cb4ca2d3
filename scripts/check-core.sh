#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Builds the core and the link for a Cortex-M4F and a RISC-V, and proves what it promises: no heap, no stdio, no
# double arithmetic, no global state, nothing from outside but a few functions; and that a recorded
# run gives the same duties on an emulated Cortex-M4F as on this machine.
# Counts what both cost.
# Usage: check-core.sh [HOST_BUILD]; the replay needs that build of the host (build/dev).
set -eu
cd "$(dirname "$0")/.."
host=$(realpath "${1:-build/dev}")
./scripts/nanopb-source.sh build/nanopb
for target in rv32imfc cortex-m4f-small cortex-m4f; do
    cmake --preset "$target" -DCORVAK_NANOPB_SOURCE="$(realpath build/nanopb)" >/dev/null 2>&1
    cmake --build --preset "$target" | tail -n 1
done
libraries="build/cortex-m4f/libcorvak_core.a build/cortex-m4f/libcorvak_link.a"
program=build/cortex-m4f/ports/cortex_m4f/core_on_m4f
allowed="copysignf expf fabsf memcmp memcpy memset sqrtf"

failed=0
# shellcheck disable=SC2086 # a list of files
for symbol in $(arm-none-eabi-nm -u $libraries | awk '$1 == "U" && $2 !~ /^(cvk|corvak|pb)_/ {print $2}' | sort -u); do
    case " $allowed " in
    *" $symbol "*) ;;
    *)
        echo "the core needs $symbol, which is not among: $allowed"
        failed=1
        ;;
    esac
done
# shellcheck disable=SC2086
state=$(arm-none-eabi-size $libraries | awk 'NR > 1 {sum += $2 + $3} END {print sum + 0}')
if [ "$state" -ne 0 ]; then
    echo "the core has $state bytes of global state; it may have none"
    failed=1
fi
if arm-none-eabi-nm "$program" | grep -E ' T (malloc|_sbrk|printf|__aeabi_d[a-z]+)$'; then
    echo "the linked program holds the functions above: heap, stdio or double arithmetic"
    failed=1
fi
echo "flash (text + data) and RAM (data + bss) of the least program, and of the same for little flash:"
arm-none-eabi-size "$program" "build/cortex-m4f-small/ports/cortex_m4f/core_on_m4f"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
# the core's share: linked alone, with all that the link and that program call
small=build/cortex-m4f-small
roots=$(arm-none-eabi-nm -u "$small/libcorvak_link.a" "$small"/ports/cortex_m4f/CMakeFiles/core_on_m4f.dir/*.obj |
    awk '$1 == "U" && $2 ~ /^cvk_/ {print "-Wl,-u," $2}' | sort -u)
# shellcheck disable=SC2086 # a list of options
arm-none-eabi-gcc -mcpu=cortex-m4 -mthumb -mfpu=fpv4-sp-d16 -mfloat-abi=hard -Os -flto -flto-partition=one \
    -ffunction-sections -fdata-sections \
    -flinker-output=nolto-rel -r -nostdlib -Wl,--gc-sections $roots "$small/libcorvak_core.a" -o "$work/core.o"
flash=$(arm-none-eabi-size "$work/core.o" | awk 'NR == 2 {print $1 + $2}')
echo "of it the core with all its features: $flash bytes, at most 56 KiB"
if [ "$flash" -gt 57344 ]; then
    echo "the core for little flash is too large"
    failed=1
fi
for file in src/core/*/*.c; do
    arm-none-eabi-gcc -std=c11 -O3 -mcpu=cortex-m4 -mthumb -mfpu=fpv4-sp-d16 -mfloat-abi=hard \
        -fno-math-errno -Iinclude -Isrc/core -fstack-usage -c "$file" -o "$work/$(basename "$file" .c).o"
done
echo "stack of a control call: cvk_drive_control() and its deepest step, bytes:"
cat "$work"/*.su | awk '{split($1, at, ":"); own[at[4]] = $2}
    END {for (n in own) if (n ~ /_step$/ && own[n] > most) most = own[n]
         print "  " own["cvk_drive_control"] " + " most}'

# the same run there and here: everything on, then without what is not of the bar
here=$(pwd)
cd "$work"
for kind in "" plain "plain absolute" "plain encoder" "plain sincos" "plain halls" \
    "plain injection" "plain least_current" "plain weakening" "plain six_step"; do
    # shellcheck disable=SC2086
    "$host/bench/record_readings" $kind
    "$host/ports/replay/replay_native" >/dev/null
    echo "on the emulated board${kind:+, $kind}:"
    timeout 300 qemu-system-arm -M mps2-an386 -nographic -icount shift=0 \
        -semihosting-config enable=on,target=native \
        -kernel "$here/build/cortex-m4f/ports/cortex_m4f/replay_on_m4f"
    "$host/ports/replay/compare_duties" duties-native.bin duties-m4f.bin || failed=1
done
echo "the link on the emulated board:"
timeout 60 qemu-system-arm -M mps2-an386 -nographic -icount shift=0 \
    -semihosting-config enable=on,target=native \
    -kernel "$here/build/cortex-m4f/ports/cortex_m4f/link_cost" || failed=1
echo "the wheel on the emulated board, over its serial line:"
cd "$here"
timeout 120 ./scripts/board.sh "$host" ports/cortex_m4f/board.session >"$work/board.txt" || failed=1
cat "$work/board.txt"
for words in "runs at 6" "change 1 is kept" ", and back" "speed      [56][0-9.]* rpm" "the bridge is off"; do
    grep -q "$words" "$work/board.txt" || { echo "the board does not say \"$words\""; failed=1; }
done
exit $failed
