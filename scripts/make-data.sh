#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Records the demo logs in data/ anew; the same bytes every time. Usage: make-data.sh [CORVAK]
set -eu
cd "$(dirname "$0")/.."
corvak=${1:-build/dev/corvak}

# the potter's wheel, shaft held: what the examples of `corvak estimate` use
"$corvak" record standstill data/wheel.rig.yaml --seed 7 -o data/wheel-standstill.csv
# hands on the clay: an ordinary run
"$corvak" record duty data/wheel.rig.yaml --seed 7 --scenario data/centring.scenario.yaml \
    --decimate 4 -o data/wheel-duty.h5
# two turns of the wheel's PWM as a bench scope sees them
"$corvak" record spin data/wheel.rig.yaml --seed 7 --scope va,vb,vc,ia --from 0.1 \
    --length 0.0002 -o data/wheel-scope.csv
# all rotor sensors of the mixer over one turn each way
"$corvak" record sweep data/mixer.rig.yaml --seed 7 --decimate 20 -o data/mixer-sweep.h5
