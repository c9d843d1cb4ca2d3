#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Runs each fuzz target for some seconds. Usage: fuzz.sh [SECONDS]   (20)
set -eu
cd "$(dirname "$0")/.."
seconds=${1:-20}
cmake --preset fuzz >/dev/null
cmake --build --preset fuzz --target corvak fuzz_card_yaml fuzz_column_maps fuzz_framing fuzz_link_controller \
    fuzz_link_host fuzz_log_csv fuzz_log_hdf5 fuzz_observers fuzz_rig_yaml fuzz_scenario_yaml fuzz_session fuzz_tune_yaml | tail -n 1
for target in card_yaml column_maps framing link_controller link_host log_csv log_hdf5 observers rig_yaml scenario_yaml session tune_yaml; do
    corpus=build/fuzz/corpus-$target
    mkdir -p "$corpus"
    longest=65536 largest_block_mb=2048
    if [ "$target" = rig_yaml ]; then
        cp data/*.rig.yaml "$corpus"
    elif [ "$target" = card_yaml ]; then
        printf 'name: a\nmotor:\n  resistance_ohm: {value: 1, low: 0.9, high: 1.1, from: x}\n' \
            >"$corpus/card.yaml"
    elif [ "$target" = column_maps ]; then
        printf "t: stamp\nia:\n  name: ADC1\n  unit: mA\n  scale: 0.0122\n  offset: -25\nvdc: '?'\n" \
            >"$corpus/mapping.yaml"
    elif [ "$target" = framing ]; then
        printf '~123456789\046\071\364\313~' >"$corpus/frame"
    elif [ "$target" = link_controller ]; then
        # claim; request of a current; stage and adopt on trial; stream; look; words
        printf '\001\011\010\001\122\005\015\000\000\200\077\006\010\002\142\002\010\004' \
            >"$corpus/claim"
        printf '\001\015\010\003\072\011\010\001\022\005\010\003\025\000\000' >"$corpus/stage"
        printf '\001\017\010\004\102\013\015\001\002\003\004\022\004\015\000\000\200' >"$corpus/adopt"
        printf '\001\013\010\005\152\007\012\003\001\002\003\020\001\006\010\006\062\002\012\001' \
            >"$corpus/stream"
    elif [ "$target" = link_host ]; then
        # an identity with two rows in each table, and a state
        printf '\030\010\001\042\024\010\001\022\001a\032\001b\040\002\050\001\060\001\075\027\267\121\070' \
            >"$corpus/identity"
        printf '\011\010\001\052\005\022\003\012\001c\004\122\002\010\001' >"$corpus/rows"
    elif [ "$target" = observers ] || [ "$target" = session ] ||
        [ "$target" = log_hdf5 ]; then
        head -c 3400 data/wheel-duty.h5 >"$corpus/anything" # as drawn bytes, not as a log
    elif [ "$target" = tune_yaml ]; then
        cp data/*.tune.yaml "$corpus"
    elif [ "$target" = scenario_yaml ]; then
        cp data/*.scenario.yaml "$corpus"
    else
        head -n 400 data/wheel-standstill.csv >"$corpus/standstill.csv"
        build/fuzz/corvak record spin data/mixer.rig.yaml --decimate 400 \
            -c t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,theta_m,enc,index,hall,sin,cos,tach \
            -o "$corpus/sensors.csv" >/dev/null 2>&1
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
