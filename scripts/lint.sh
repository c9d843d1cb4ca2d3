#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Format check, clang-tidy, cppcheck and shellcheck over everything; silent when all is well.
set -eu
cd "$(dirname "$0")/.."
# shellcheck disable=SC2046
clang-format --dry-run --Werror $(git ls-files '*.c' '*.h')
shellcheck scripts/*.sh tests/cli/readme.sh tests/install/check.sh tests/link/client.sh .ci/run
cmake --preset dev >/dev/null
mkdir -p build/lint
report=build/lint/clang-tidy.txt
# an option of GCC that clang does not know
sed 's/-fcx-limited-range//' build/dev/compile_commands.json >build/lint/compile_commands.json
git ls-files 'src/*.c' 'ports/sim/*.c' 'examples/*.c' 'bench/*.c' |
    xargs -P "$(nproc)" -n 4 clang-tidy --quiet -p build/lint >"$report" 2>/dev/null || true
if grep -E 'warning:|error:' "$report"; then
    exit 1
fi
cppcheck --quiet --std=c11 --enable=warning,performance,portability --inline-suppr \
    --suppressions-list=.cppcheck-suppressions --error-exitcode=1 -Iinclude -Isrc/core -Isrc/ident -Isrc/files -Isrc/cli src ports/sim examples
echo "lint: clean"
