#!/usr/bin/env bash
# SPDX-License-Identifier: Apache-2.0
# Runs client.py against `corvak serve`. client.sh FOLDER_OF_CORVAK SOURCE
set -euo pipefail

source_dir=$2
folder=$(mktemp -d)
"$1/corvak" serve "$source_dir/data/wheel.rig.yaml" --quiet >"$folder/address" &
server=$!
trap 'kill -INT $server 2>/dev/null; wait $server; rm -rf "$folder"' EXIT
protoc -I "$source_dir/src/link" --python_out="$folder" corvak.proto
for _ in $(seq 100); do
    [ -s "$folder/address" ] && break
    sleep 0.05
done
IFS=: read -r _ host port <"$folder/address"
/usr/bin/python3 "$source_dir/tests/link/client.py" "$host" "$port" "$folder"
