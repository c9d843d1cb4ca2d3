#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Format check, clang-tidy, cppcheck and shellcheck over everything; silent when all is well.
set -eu
cd "$(dirname "$0")/.."
# shellcheck disable=SC2046
clang-format --dry-run --Werror $(git ls-files '*.c' '*.h')
shellcheck scripts/*.sh tests/install/check.sh .ci/run
cmake --preset dev >/dev/null
report=build/dev/clang-tidy.txt
git ls-files 'src/*.c' 'ports/sim/*.c' 'examples/*.c' 'bench/*.c' |
    xargs -P "$(nproc)" -n 4 clang-tidy --quiet -p build/dev >"$report" 2>/dev/null || true
if grep -E 'warning:|error:' "$report"; then
    exit 1
fi
cppcheck --quiet --std=c11 --enable=warning,performance,portability --inline-suppr \
    --suppressions-list=.cppcheck-suppressions --error-exitcode=1 -Iinclude src ports/sim examples
echo "lint: clean"
