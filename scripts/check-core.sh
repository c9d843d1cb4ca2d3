#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Builds the core for a Cortex-M4F and proves what it promises: no heap, no stdio, no double
# arithmetic, no global state, nothing from outside but a few functions of <math.h>.
set -eu
cd "$(dirname "$0")/.."
cmake --preset cortex-m4f >/dev/null
cmake --build --preset cortex-m4f | tail -n 1
library=build/cortex-m4f/libcorvak_core.a
program=build/cortex-m4f/ports/cortex_m4f/core_on_m4f
allowed="expf fabsf memcpy memset"

failed=0
for symbol in $(arm-none-eabi-nm -u "$library" | awk '$1 == "U" && $2 !~ /^cvk_/ {print $2}' | sort -u); do
    case " $allowed " in
    *" $symbol "*) ;;
    *)
        echo "the core needs $symbol, which is not among: $allowed"
        failed=1
        ;;
    esac
done
state=$(arm-none-eabi-size "$library" | awk 'NR > 1 {sum += $2 + $3} END {print sum + 0}')
if [ "$state" -ne 0 ]; then
    echo "the core has $state bytes of global state; it may have none"
    failed=1
fi
if arm-none-eabi-nm "$program" | grep -E ' T (malloc|_sbrk|printf|__aeabi_d[a-z]+)$'; then
    echo "the linked program holds the functions above: heap, stdio or double arithmetic"
    failed=1
fi
arm-none-eabi-size "$program"
exit $failed
