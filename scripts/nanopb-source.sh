#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Fetches the source of nanopb, as Debian has it, for a cross build: its package holds the library
# for this machine only. Does nothing when it is there. Usage: nanopb-source.sh FOLDER
set -eu
folder=$1
[ ! -e "$folder/pb_encode.c" ] || exit 0
mkdir -p "$folder/apt/lists/partial" "$folder/apt/parts" "$folder/apt/cache"
: >"$folder/apt/parts/source.list"
# the same places that packages come from
if [ -e /etc/apt/sources.list ]; then
    sed -n 's/^deb /deb-src /p' /etc/apt/sources.list >>"$folder/apt/parts/source.list"
fi
if [ -e /etc/apt/sources.list.d/debian.sources ]; then
    sed 's/^Types:.*/Types: deb-src/' /etc/apt/sources.list.d/debian.sources \
        >"$folder/apt/parts/debian.sources"
fi
set -- -qq -o Dir::Etc::sourcelist=/dev/null -o "Dir::Etc::sourceparts=$(realpath "$folder")/apt/parts" \
    -o "Dir::State::lists=$(realpath "$folder")/apt/lists" -o "Dir::Cache=$(realpath "$folder")/apt/cache" -o APT::Sandbox::User=root -o Acquire::Retries=3
cd "$folder"
apt-get "$@" update
apt-get "$@" source --download-only nanopb
tar --extract --gzip --strip-components 1 --file nanopb_*.orig.tar.gz
