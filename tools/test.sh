#!/bin/sh
# test.sh       formatting, lints and all cargo tests; installs the outside programs that judge their results
# test.sh all   also what only CI runs: the virtual PC, reproducible builds, plays for many PCs, network boot, a real Linux
#               system, licences, packages, and the program for Windows
# Prints how long each step took at the end.
set -eu
cd "$(dirname "$0")/.."
case ${1:-} in
    '' | all) asked=${1:-short} ;;
    *)
        sed -n '2,5s/^# //p' "$0" >&2
        exit 2
        ;;
esac
# One build for all: the program that the tests drive is linked as the one for the stick is, and goes onto it.
CARGO_BUILD_TARGET=$(uname -m)-unknown-linux-gnu
. tools/flags.sh
RUSTFLAGS=$(flags "$PWD" "${CARGO_TARGET_DIR:-$PWD/target}")
# A test that fails says where without line tables, and they take time to build.
CARGO_PROFILE_DEV_DEBUG=none
export CARGO_BUILD_TARGET RUSTFLAGS CARGO_PROFILE_DEV_DEBUG
built=${CARGO_TARGET_DIR:-$PWD/target}/$CARGO_BUILD_TARGET/debug
scratch=$(mktemp -d)
# The emulator of the tests, a user without rights, goes through it.
chmod 711 "$scratch"
install=
pc=
fleet=
# shellcheck disable=SC2329 # called by the trap
leave() {
    # shellcheck disable=SC2086 # none, one or more
    kill $install $pc $fleet 2>/dev/null || true
    umount -l "$scratch/files" 2>/dev/null || true
    rm -rf "$scratch"
}
trap leave EXIT
last=$(date +%s)
times=
# step NAME: notes how long what was done since the last step took.
step() {
    now=$(date +%s)
    times="$times$(printf '%6d s  %s' $((now - last)) "$1")
"
    last=$now
}
# What runs beside the rest: its output is shown when it has ended.
beside() { "$@" >"$scratch/$(basename "$1")" 2>&1 & }
ended() {
    status=0
    wait "$1" || status=$?
    cat "$scratch/$2"
    return "$status"
}
# The network works while the compiler does.
case $asked in
    all) beside sh -ec "tools/install-test-tools.sh; tools/windows.sh packages" ;;
    *) beside sh -ec tools/install-test-tools.sh ;;
esac
install=$!
cargo fmt --all --check
cargo clippy --workspace --all-targets --locked -- -D warnings
# The command line and the fuzz targets have no public face.
RUSTDOCFLAGS="-D warnings" cargo doc --workspace --exclude schwelle --exclude schwelle-fuzz --no-deps --locked --quiet
step "format and lints"
cargo test --workspace --locked --no-run
ended "$install" sh
install=
step "compile, and install the tools"
# The tests write and flush many disks. A file system of their own, without write barriers, spares them the waiting. It lies on
# the disk, since a job folder in memory is refused, and gives back what files that are gone held there.
truncate -s 24G "$scratch/disk"
mkfs.ext4 -q -O ^has_journal "$scratch/disk"
mkdir "$scratch/files"
mount -o loop,noatime,nobarrier,discard "$scratch/disk" "$scratch/files"
# Deeper than job folders are looked for on a medium: the tests' disks have the same names, and one would find the other's.
export TMPDIR=$scratch/files/deeper/than/any/job
mkdir -p "$TMPDIR"
# A virtual PC: the rescue stick on real firmware and buses, with faults and power cuts. More cuts are in the longer forms. It
# waits as often as it works, as many of the tests do: all of them go on at once.
export SCHWELLE="$built/schwelle" PC_DISKS="$built/examples/pc_disks"
if [ "$asked" = all ]; then
    beside tools/pc-test.sh
    pc=$!
fi
RUST_TEST_THREADS=$(($(nproc) * 2)) cargo test --workspace --locked -- --include-ignored
step "tests"
tools/alone.sh "$built/schwelle"
step "no network"
if [ "$asked" != all ]; then
    printf '%s' "$times"
    exit
fi
# The one that the tests drive has features that only they ask for.
tools/reproducible.sh
step "reproducible builds"
ended "$pc" pc-test.sh
pc=
step "virtual PC, the rest of it"
# A whole Linux on real firmware, in both modes. At the same time: the plays for many PCs by the real engine, PCs started from the
# network, licences, and packages.
export FIRST_START="$built/examples/first_start"
beside sh -ec "tools/fleet-test.sh; tools/network-test.sh; tools/deny.sh; tools/package-test.sh '$built/schwelle'"
fleet=$!
BESIDE_LINUX="$built/examples/beside_linux" tools/linux-test.sh
ended "$fleet" sh
fleet=
step "whole Linux, many PCs, PCs started from the network, licences, packages"
# The program for Windows, under Wine, beside the one for Linux.
tools/windows.sh test
step "the program for Windows"
printf '%s' "$times"
