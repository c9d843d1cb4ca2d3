#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# The main job on the demo scenario: record the potter's wheel on the simulated rig, estimate its
# motor card, compare it with the rig's truth, draw the page; then gains from the card, a run
# without a rotor sensor, and a live session with the controller as a process of its own.
# Usage: demo.sh CORVAK OUTPUT_DIR
set -eu
corvak=$1
out=$2
rig=data/wheel.rig.yaml
mkdir -p "$out"

say() {
    echo "--- $*"
}

for run in standstill spin coast; do
    say "corvak record $run $rig --seed 7 -o $out/wheel-$run.csv"
    "$corvak" record "$run" "$rig" --seed 7 -o "$out/wheel-$run.csv"
done
say "corvak estimate $out/wheel-*.csv --compare $rig -o $out/wheel.card.yaml --plot $out/wheel.png"
"$corvak" estimate "$out/wheel-standstill.csv" "$out/wheel-spin.csv" "$out/wheel-coast.csv" \
    --compare "$rig" -o "$out/wheel.card.yaml" --plot "$out/wheel.png"
say "corvak examine $out/wheel-standstill.csv"
"$corvak" examine "$out/wheel-standstill.csv" --plot "$out/wheel-health.png"
say "corvak card $out/wheel.card.yaml --meter-resistance 0.338 --meter-inductance 780e-6"
"$corvak" card "$out/wheel.card.yaml" --meter-resistance 0.338 --meter-inductance 780e-6
say "corvak watch sim:data/mixer.rig.yaml (the mixer's halls were wired in an unknown order)"
"$corvak" watch sim:data/mixer.rig.yaml || true
say "corvak wiring data/mixer-sweep.h5"
"$corvak" wiring data/mixer-sweep.h5
all=t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,theta_m,enc,index,hall,sin,cos,tach
say "corvak record spin data/mixer.rig.yaml -o $out/mixer-spin.h5 -c $all"
"$corvak" record spin data/mixer.rig.yaml -o "$out/mixer-spin.h5" -c "$all"
say "corvak calibrate $out/mixer-spin.h5 --plot $out/mixer-sensors.png"
"$corvak" calibrate "$out/mixer-spin.h5" --plot "$out/mixer-sensors.png"
say "corvak calibrate sim:data/mixer.rig.yaml"
"$corvak" calibrate sim:data/mixer.rig.yaml
say "corvak gains $out/wheel.card.yaml $rig -o $out/wheel.tune.yaml"
"$corvak" gains "$out/wheel.card.yaml" "$rig" -o "$out/wheel.tune.yaml"
say "corvak run $rig data/throwing.scenario.yaml --tune $out/wheel.tune.yaml --plot $out/wheel-run.png"
"$corvak" run "$rig" data/throwing.scenario.yaml --tune "$out/wheel.tune.yaml" \
    --plot "$out/wheel-run.png"
seen=t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,true_theta_e
say "corvak replay $out/wheel-run.h5 --map theta_e=true_theta_e --plot $out/wheel-replay.png"
"$corvak" run "$rig" data/throwing.scenario.yaml --tune "$out/wheel.tune.yaml" \
    -o "$out/wheel-run.h5" -c "$seen" >/dev/null
"$corvak" replay "$out/wheel-run.h5" --map theta_e=true_theta_e --tune "$out/wheel.tune.yaml" \
    --plot "$out/wheel-replay.png"
say "corvak serve $rig --tune $out/wheel.tune.yaml"
rm -f "$out/address"
"$corvak" serve "$rig" --tune "$out/wheel.tune.yaml" >"$out/address" &
server=$!
trap 'kill -INT $server 2>/dev/null || true' EXIT
while [ ! -s "$out/address" ] && kill -0 $server; do
    sleep 0.05
done
device=$(cat "$out/address")
session=$(pwd)/data/tuning.session
say "corvak tune $device -x data/tuning.session --card wheel.card.yaml --history changes.jsonl --lease 5"
command=$(realpath "$corvak")
(cd "$out" && rm -f changes.jsonl && "$command" tune "$device" -x "$session" \
    --card wheel.card.yaml --history changes.jsonl --lease 5)
kill -INT $server
wait $server
trap - EXIT
say "card: $out/wheel.card.yaml   tune: $out/wheel.tune.yaml, as tuned: $out/wheel-tuned.tune.yaml"
say "figures: $out/wheel.png, $out/mixer-sensors.png, $out/wheel-run.png, $out/wheel-replay.png, $out/wheel-steps.png"
