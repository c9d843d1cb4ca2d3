#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Draws every picture of docs/screenshots anew from the demo data: figures as the command draws
# them, terminal pictures from an xterm on a screen of their own. Usage: screenshots.sh CORVAK
set -eu
cd "$(dirname "$0")/.."
corvak=$(realpath "$1")
shots=$(pwd)/docs/screenshots
data=$(pwd)/data
type=$(pwd)/scripts/type-session.py
for need in Xvfb xterm xsetroot import; do
    command -v "$need" >/dev/null && continue
    echo "$need is missing: apt-get install xvfb xterm x11-xserver-utils imagemagick" >&2
    exit 2
done
work=$(mktemp -d)
display=:$((200 + $$ % 500))
Xvfb "$display" -screen 0 1280x800x24 2>/dev/null &
screen=$!
server=
trap 'kill $screen $server 2>/dev/null || true; rm -rf "$work"' EXIT
export DISPLAY="$display"
cd "$work"
cp -r "$data" data
mkdir bin && ln -s "$corvak" bin/corvak
PATH=$work/bin:$PATH
sleep 1
xsetroot -solid white

# terminal NAME COMMAND [FONT_SIZE [RUN]]: what the command prints, with its prompt (RUN stands for it
# when it has to be started in another way); white below the last line is cut
terminal() {
    cat >session.sh <<EOF
printf '\$ %s\n' '$2'
${4:-$2}
printf '\033[?25l'
touch finished
EOF
    rm -f finished
    xterm -fa 'DejaVu Sans Mono' -fs "${3:-9}" -geometry 300x100+0+0 -bw 0 -b 8 -bg white -fg black \
        -e sh -c 'sh session.sh; sleep 60' 2>/dev/null &
    window=$!
    while [ ! -e finished ]; do sleep 0.2; done
    sleep 1
    import -window root png:- | convert - -trim +repage -bordercolor white -border 12 \
        -gravity northwest -background white -extent 1280x0 "$shots/$1.png" 2>/dev/null ||
        import -window root "$shots/$1.png"
    kill "$window"
    wait "$window" 2>/dev/null || true
}

for run in standstill spin coast; do
    corvak record "$run" data/wheel.rig.yaml --seed 7 -o "wheel-$run.csv" 2>/dev/null
done
corvak estimate wheel-*.csv --compare data/wheel.rig.yaml -o wheel.card.yaml \
    --plot "$shots/estimate-page.png" --plot-details "$shots/estimate-details.png" >/dev/null
corvak examine wheel-standstill.csv --plot "$shots/examine-page.png" >/dev/null
corvak rig data/wheel.rig.yaml --plot "$shots/rig-inverters.png" >/dev/null
corvak record duty data/wheel.rig.yaml --seed 7 --scenario data/centring.scenario.yaml \
    -o duty.h5 --plot "$shots/record-duty.png" 2>/dev/null
corvak record spin data/mixer.rig.yaml -o sensors-spin.h5 \
    -c t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,theta_m,enc,index,hall,sin,cos,tach 2>/dev/null
corvak calibrate sensors-spin.h5 --plot "$shots/calibrate-page.png" >/dev/null

corvak gains wheel.card.yaml data/wheel.rig.yaml -o wheel.tune.yaml >/dev/null
corvak range wheel.card.yaml data/wheel.rig.yaml --plot "$shots/range-page.png" >/dev/null
corvak run data/wheel.rig.yaml data/throwing.scenario.yaml --tune wheel.tune.yaml \
    --plot "$shots/run-page.png" -o run.h5 \
    -c t,ia,ib,ic,duty_a,duty_b,duty_c,vdc,true_theta_e >/dev/null
corvak replay run.h5 --map theta_e=true_theta_e --card wheel.card.yaml --tune wheel.tune.yaml --search \
    --plot "$shots/replay-page.png" >/dev/null 2>&1

cat >keys <<'EOF'
start 150rpm
@wait 6
@key set speed.g\t0.3
@key \n
apply
@wait 4
keep
@wait 1
set speed.gain_a_s 15
apply
@wait 4
step speed 20rpm
@wait 4
show speed.
EOF
serve() {
    corvak serve data/wheel.rig.yaml --tune wheel.tune.yaml --listen tcp:127.0.0.1:4242 --quiet \
        >/dev/null &
    server=$!
    sleep 1
}
serve
terminal tune-terminal "corvak tune tcp:127.0.0.1:4242 --card wheel.card.yaml" 9 \
    "$type keys corvak tune tcp:127.0.0.1:4242 --card wheel.card.yaml --lease 5"
kill -INT $server
wait $server
serve
corvak tune tcp:127.0.0.1:4242 --card wheel.card.yaml --lease 5 -x data/tuning.session >/dev/null
mv wheel-steps.png "$shots/tune-steps.png"
kill -INT $server

terminal wiring-terminal "corvak wiring data/mixer-sweep.h5"
terminal watch-terminal "corvak watch sim:data/mixer.rig.yaml"
terminal gains-terminal "corvak gains wheel.card.yaml data/wheel.rig.yaml" 8
terminal run-terminal \
    "corvak run data/wheel.rig.yaml data/throwing.scenario.yaml --tune wheel.tune.yaml"
terminal estimate-terminal "corvak estimate wheel-*.csv --compare data/wheel.rig.yaml"
terminal plan-terminal \
    "corvak plan data/wheel.rig.yaml wheel-standstill.csv --time 5 2>/dev/null"
terminal card-terminal "corvak card wheel.card.yaml --meter-resistance 0.332"
terminal rig-terminal "corvak rig data/wheel.rig.yaml"
