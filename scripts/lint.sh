#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Format check, clang-tidy, cppcheck and shellcheck over everything; silent when all is well.
set -eu
cd "$(dirname "$0")/.."
for tool in clang-format clang-tidy cppcheck shellcheck; do
    if ! command -v $tool >/dev/null; then
        echo "lint: $tool is missing (scripts/install-deps.sh installs it)"
        exit 1
    fi
done
ignored=$(git ls-files --others --ignored --exclude-standard src include ports tests examples bench)
if [ -n "$ignored" ]; then
    echo "lint: git ignores these, so a clone would lack them:" "$ignored"
    exit 1
fi
# shellcheck disable=SC2046
clang-format --dry-run --Werror $(git ls-files '*.c' '*.h')
shellcheck scripts/*.sh tests/cli/readme.sh tests/install/check.sh tests/link/client.sh .ci/run
cmake --preset dev >/dev/null
mkdir -p build/lint
report=build/lint/clang-tidy.txt errors=build/lint/clang-tidy.err
# an option of GCC that clang does not know
sed 's/-fcx-limited-range//' build/dev/compile_commands.json >build/lint/compile_commands.json
# it fails by what it finds, and as well when it crashes or cannot run
if ! git ls-files 'src/*.c' 'ports/sim/*.c' 'ports/replay/*.c' 'examples/*.c' 'bench/*.c' 'tests/*.c' |
    grep -v '^tests/fuzz/\|^tests/install/' |
    xargs -P "$(nproc)" -n 4 clang-tidy --quiet -p build/lint >"$report" 2>"$errors"; then
    grep -E 'warning:|error:' "$report" || tail -n 20 "$report" "$errors"
    echo "lint: clang-tidy found something, or failed"
    exit 1
fi
cppcheck --quiet --std=c11 --enable=warning,performance,portability --inline-suppr \
    --suppressions-list=.cppcheck-suppressions --error-exitcode=1 -Iinclude -Isrc/core -Isrc/ident -Isrc/files -Isrc/cli src ports/sim examples
echo "lint: clean"
