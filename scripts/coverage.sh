#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# What the tests execute, by layer, and the functions of the product that none of them enters. The
# build must have run its tests with --coverage (preset coverage). Prints only: there is no bar.
# Usage: coverage.sh [BUILD]
set -eu
cd "$(dirname "$0")/.."
build=${1:-build/coverage}
info=$build/coverage.info
lcov --quiet --capture --directory "$build" --base-directory . --no-external \
    --output-file "$info" 2>/dev/null
lcov --quiet --extract "$info" "$PWD/src/*" "$PWD/ports/sim/*" --output-file "$info" 2>/dev/null
echo "coverage, by layer: lines, functions"
awk -F: -v root="$PWD/" '
    /^SF:/ { file = $2; sub(root, "", file); layer = file; sub("/[^/]*$", "", layer)
             if (layer ~ /^src\/[^\/]*\//) sub("/[^/]*$", "", layer) }
    /^LF:/ { lines[layer] += $2 }    /^LH:/ { lines_hit[layer] += $2 }
    /^FNF:/ { all[layer] += $2 }     /^FNH:/ { hit[layer] += $2 }
    END { for (l in lines) printf "  %-14s %5.1f %% of %5d lines, %5.1f %% of %4d functions\n", l,
              100 * lines_hit[l] / lines[l], lines[l], 100 * hit[l] / all[l], all[l] }' "$info" | sort
echo "functions that no test enters:"
awk -F'[:,]' -v root="$PWD/" '
    /^SF:/ { file = $2; sub(root, "", file) }
    /^FNDA:0,/ { print "  " file ": " $3 }' "$info" | sort
