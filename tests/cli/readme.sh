#!/usr/bin/env bash
# SPDX-License-Identifier: Apache-2.0
# Every shell command of the README as printed, in order, in an empty folder with the demo data; each
# must end with the status that its comment says ("status 1"), else 0. And every line of C in README
# and docs must stand in a compiled example.
# readme.sh FOLDER_OF_CORVAK SOURCE
set -euo pipefail

source_dir=$2
PATH=$1:$PATH
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cp -r "$source_dir/data" "$folder/data"

blocks() { # language file
    awk -v language="$1" '/^```/ { inside = !inside && $0 == "```" language; next } inside' "$2"
}

failed=0 ran=0
cd "$folder"
while IFS= read -r line; do
    command=${line%%#*}
    case $command in
        *[![:space:]]*) ;;
        *) continue ;;
    esac
    case $command in
        make*|cmake*) continue ;; # they run this very test
    esac
    wanted=0
    [[ $line =~ status\ ([0-9]) ]] && wanted=${BASH_REMATCH[1]}
    status=0
    bash -c "$command" >out.txt 2>err.txt || status=$?
    ran=$((ran + 1))
    if [ "$status" -ne "$wanted" ]; then
        echo "README: \`$command\` ended with $status, not $wanted:"
        tail -5 err.txt
        failed=1
    fi
done < <(blocks sh "$source_dir/README.md")
echo "README: $ran commands run"
[ "$ran" -ge 8 ] || failed=1

lines=0
for page in "$source_dir"/README.md "$source_dir"/docs/*.md; do
    while IFS= read -r line; do
        text=$(sed -e 's/^[[:space:]]*//' -e 's/[[:space:]]*$//' <<<"$line")
        [ -n "$text" ] || continue
        lines=$((lines + 1))
        if ! cat "$source_dir"/examples/*.c "$source_dir"/ports/*/*.c | sed -e 's/^[[:space:]]*//' | grep -xF -- "$text" >/dev/null; then
            echo "$page: no example has the line: $text"
            failed=1
        fi
    done < <(blocks c "$page")
done
echo "README and docs: $lines lines of C are quoted from examples"
exit "$failed"
