#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Installs the build into a scratch prefix and uses it from another project, once through
# find_package(corvak), once through pkg-config, and compiles every public header as C++.
# Usage: check.sh BUILD_DIR SOURCE_DIR
set -eu
build=$1
source=$2
scratch=$(mktemp -d)
trap 'rm -rf "$scratch"' EXIT

cmake --install "$build" --prefix "$scratch/prefix" >/dev/null
flags=$(sed -n 's/^CMAKE_C_FLAGS:STRING=//p' "$build/CMakeCache.txt")

cmake -S "$source/consumer" -B "$scratch/consumer" -DCMAKE_PREFIX_PATH="$scratch/prefix" \
    -DCMAKE_C_FLAGS="$flags" >/dev/null
cmake --build "$scratch/consumer" >/dev/null
"$scratch/consumer/consumer"

# no flag but those of pkg-config; the prefix is found from where corvak.pc lies
PKG_CONFIG_PATH=$(dirname "$(find "$scratch/prefix" -name corvak.pc)")
export PKG_CONFIG_PATH
# shellcheck disable=SC2046,SC2086
cc $flags "$source/consumer/consumer.c" -o "$scratch/by-pkg-config" \
    $(pkg-config --cflags --libs --static corvak)
"$scratch/by-pkg-config"
for layer in "$scratch"/prefix/include/corvak/*/; do
    case " $(pkg-config --libs corvak) " in
    *" -lcorvak_$(basename "$layer") "*) ;;
    *) echo "corvak.pc does not list the library of corvak/$(basename "$layer")" && exit 1 ;;
    esac
done

for header in $(cd "$scratch/prefix/include" && find corvak -name '*.h'); do
    echo "#include \"$header\"" | c++ -std=c++17 -Wall -Wextra -Wpedantic -Werror -x c++ \
        -fsyntax-only -I "$scratch/prefix/include" -
done

test "$("$scratch/prefix/bin/corvak" --version | cut -d. -f1)" = "corvak 0"
echo "installed package works"
