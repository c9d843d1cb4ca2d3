#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# The main job on the demo scenario: record the potter's wheel on the simulated rig, estimate its
# motor card, compare it with the rig's truth, draw the page; then gains from the card, and a run
# without a rotor sensor. Usage: demo.sh CORVAK OUTPUT_DIR
set -eu
corvak=$1
out=$2
rig=data/wheel.rig.yaml
mkdir -p "$out"

say() {
    echo "--- $*"
}

for run in standstill spin coast; do
    say "corvak record $run --rig $rig --seed 7 -o $out/wheel-$run.csv"
    "$corvak" record "$run" --rig "$rig" --seed 7 -o "$out/wheel-$run.csv"
done
say "corvak estimate $out/wheel-*.csv --compare $rig --card $out/wheel.card.yaml --plot $out/wheel.png"
"$corvak" estimate "$out/wheel-standstill.csv" "$out/wheel-spin.csv" "$out/wheel-coast.csv" \
    --compare "$rig" --card "$out/wheel.card.yaml" --plot "$out/wheel.png"
say "corvak examine $out/wheel-standstill.csv"
"$corvak" examine "$out/wheel-standstill.csv" --plot "$out/wheel-health.png"
say "corvak card $out/wheel.card.yaml --meter-resistance 0.338 --meter-inductance 780e-6"
"$corvak" card "$out/wheel.card.yaml" --meter-resistance 0.338 --meter-inductance 780e-6
say "corvak gains $out/wheel.card.yaml $rig -o $out/wheel.tune.yaml"
"$corvak" gains "$out/wheel.card.yaml" "$rig" -o "$out/wheel.tune.yaml"
say "corvak run $rig data/throwing.scenario.yaml --tune $out/wheel.tune.yaml --plot $out/wheel-run.png"
"$corvak" run "$rig" data/throwing.scenario.yaml --tune "$out/wheel.tune.yaml" \
    --plot "$out/wheel-run.png"
say "card: $out/wheel.card.yaml   tune: $out/wheel.tune.yaml   figures: $out/wheel.png, $out/wheel-run.png"
