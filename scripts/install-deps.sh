#!/bin/sh
# SPDX-License-Identifier: Apache-2.0
# Installs every Debian package that Corvak needs to build, run, test and check itself. Does
# nothing when all are there. Needs root or sudo only when something is missing.
set -eu

packages="build-essential cmake ninja-build pkg-config git
  liblapack-dev libblas-dev liblapacke-dev libcminpack-dev libkissfft-dev libyaml-dev libhdf5-dev
  libglib2.0-dev nanopb libnanopb-dev protobuf-compiler python3-protobuf libedit-dev libserialport-dev
  libjson-glib-dev gnuplot-nox fonts-dejavu-core fontconfig check
  python3-h5py ngspice lcov
  clang clang-format clang-tidy cppcheck shellcheck libclang-rt-14-dev
  gcc-arm-none-eabi libnewlib-arm-none-eabi qemu-system-arm
  gcc-riscv64-unknown-elf picolibc-riscv64-unknown-elf"

missing=""
for package in $packages; do
    if [ "$(dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null)" != installed ]; then
        missing="$missing $package"
    fi
done
[ -n "$missing" ] || exit 0

echo "installing:$missing"
as_root=""
if [ "$(id -u)" -ne 0 ]; then
    as_root=sudo
fi
$as_root apt-get update -qq
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y --no-install-recommends $missing
