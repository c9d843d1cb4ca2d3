#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Runs each fuzz target for some seconds. Usage: fuzz.sh [SECONDS]   (20)
set -eu
cd "$(dirname "$0")/.."
seconds=${1:-20}
cmake --preset fuzz >/dev/null
cmake --build --preset fuzz --target corvak fuzz_card_yaml fuzz_framing fuzz_log_csv fuzz_log_hdf5 \
    fuzz_rig_yaml fuzz_scenario_yaml fuzz_tune_yaml | tail -n 1
for target in card_yaml framing log_csv log_hdf5 rig_yaml scenario_yaml tune_yaml; do
    corpus=build/fuzz/corpus-$target
    mkdir -p "$corpus"
    longest=65536 largest_block_mb=2048
    if [ "$target" = rig_yaml ]; then
        cp data/*.rig.yaml "$corpus"
    elif [ "$target" = card_yaml ]; then
        printf 'name: a\nmotor:\n  resistance_ohm: {value: 1, low: 0.9, high: 1.1, from: x}\n' \
            >"$corpus/card.yaml"
    elif [ "$target" = log_hdf5 ]; then
        longest=400000
        largest_block_mb=1000000 # libhdf5 may ask for more, in its child: refused there
        build/fuzz/corvak record standstill --rig data/wheel.rig.yaml --decimate 500 \
            -o "$corpus/standstill.h5" >/dev/null 2>&1
    elif [ "$target" = framing ]; then
        printf '~123456789\046\071\364\313~' >"$corpus/frame"
    elif [ "$target" = tune_yaml ]; then
        cp data/*.tune.yaml "$corpus"
    elif [ "$target" = scenario_yaml ]; then
        cp data/*.scenario.yaml "$corpus"
    else
        head -n 400 data/wheel-standstill.csv >"$corpus/standstill.csv"
        printf 't_ms;ia_ma;ib_ma;vab;vbc\n0,1;1,5;2;3;4\n0,2;1;2;3;4\n' >"$corpus/comma.csv"
    fi
    build/fuzz/tests/fuzz/fuzz_$target -max_total_time="$seconds" -max_len="$longest" \
        -rss_limit_mb=2048 -malloc_limit_mb="$largest_block_mb" -timeout=20 \
        -print_final_stats=1 "$corpus" 2>&1 |
        grep -E 'ERROR|SUMMARY|stat::number_of_executed_units|runtime error' | sed "s/^/$target: /"
    if ls crash-* leak-* timeout-* oom-* >/dev/null 2>&1; then
        echo "fuzz target $target found something: see the files above"
        exit 1
    fi
done
