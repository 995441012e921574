#!/bin/bash
# Makes schwelle.exe, for Windows 10 and 11 on x86-64, on Debian 12 (as root where packages are missing):
#   windows.sh             the release, with its checksum, in target/windows
#   windows.sh test        built as tests are, and driven under Wine beside the program for Linux
#   windows.sh test all    the command line's own tests for Linux as well
#   windows.sh packages    installs what it needs, and no more
# The compiler and its standard library, as source, are Debian's: the toolchain of the project has no other target here.
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/flags.sh
case "${*:-release}" in
    release) profile=dist ;;
    test | "test all" | packages) profile=dev ;;
    *) sed -n '2,6s/^# \{0,1\}//p' "$0" >&2; exit 2 ;;
esac

# Packages that are missing, one a line.
missing() {
    [ -x /usr/bin/rustc ] || echo rustc-web
    [ -e "$(/usr/bin/rustc --print sysroot 2>/dev/null)/lib/rustlib/src/rust/library/Cargo.lock" ] || echo rust-web-src
    command -v x86_64-w64-mingw32-gcc >/dev/null || echo gcc-mingw-w64-x86-64-posix
    [ $profile = dist ] || [ -x /usr/lib/wine/wine64 ] || echo wine64
}
packages=$(missing | tr '\n' ' ')
if [ -n "$packages" ]; then
    echo "installing: $packages"
    apt-get update -q
    # shellcheck disable=SC2086 # a list of packages
    DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $packages
fi
packages=$(missing | tr '\n' ' ')
[ -z "$packages" ] || { echo "still missing, of the packages: $packages" >&2; exit 1; }
[ "$*" != packages ] || exit 0
needed=$(sed -n 's/^rust-version = "\(.*\)"/\1/p' Cargo.toml)
found=$(/usr/bin/rustc --version | cut -d' ' -f2)
if [ "$(printf '%s\n' "$needed" "$found" | sort -V | head -n 1)" != "$needed" ]; then
    echo "/usr/bin/rustc is $found, and $needed or later is needed: the package rustc-web of Debian's security archive has it" >&2
    exit 1
fi

target=x86_64-pc-windows-gnu
out=${CARGO_TARGET_DIR:-$PWD/target}/windows
mkdir -p "$out"
version=$(sed -n '/^\[workspace.package\]/,/^version/s/^version = "\(.*\)"/\1/p' Cargo.toml)
x86_64-w64-mingw32-windres -I tools/windows -D "NUMBERS=${version//./,},0" -D "TEXT=\\\"$version\\\"" \
    tools/windows/schwelle.rc "$out/resource.o"
(
    unset CARGO_BUILD_TARGET
    export RUSTC=/usr/bin/rustc RUSTC_BOOTSTRAP=1 CARGO_TARGET_DIR=$out CARGO_PROFILE_DEV_DEBUG=none
    export CARGO_TARGET_X86_64_PC_WINDOWS_GNU_LINKER=x86_64-w64-mingw32-gcc
    # The same bytes whenever it is built; and as much stack for the first thread as Linux gives it.
    RUSTFLAGS="$(flags "$PWD" "$out") -C strip=symbols -C link-arg=-Wl,--no-insert-timestamp -C link-arg=-Wl,--stack,8388608
        -C link-arg=$out/resource.o"
    export RUSTFLAGS
    build="--profile $profile --locked --quiet --target $target -Zbuild-std=std,panic_unwind,test"
    # shellcheck disable=SC2086 # several words
    cargo build $build --bin schwelle 2>&1 | tee "$out/warnings"
    if [ $profile = dev ]; then
        # The unit tests of the crate with the room for Windows.
        # shellcheck disable=SC2086
        cargo test --no-run --message-format=json -p schwelle-disk --lib $build 2>>"$out/warnings" \
            | sed -n 's/.*"executable":"\([^"]*\.exe\)".*/\1/p' >"$out/units"
    fi
)
# The lints of the compiler on what only Windows compiles.
if grep '^warning' "$out/warnings"; then exit 1; fi
if [ $profile = dist ]; then
    cp "$out/$target/dist/schwelle.exe" "$out/schwelle.exe"
    (cd "$out" && sha256sum schwelle.exe >SHA256SUMS && cat SHA256SUMS)
    exit
fi

# The program for Linux, its disks and its tests, as tools/test.sh builds them.
if [ -z "${CARGO_BUILD_TARGET:-}" ]; then
    export CARGO_PROFILE_DEV_DEBUG=none RUSTFLAGS="-C target-feature=+crt-static"
    CARGO_BUILD_TARGET=$(uname -m)-unknown-linux-gnu
    export CARGO_BUILD_TARGET
fi
built=${CARGO_TARGET_DIR:-$PWD/target}/$CARGO_BUILD_TARGET/debug
cargo build --locked --quiet --bin schwelle --example pc_disks -p schwelle -p schwelle-demo
tests=
if [ "$*" = "test all" ]; then
    tests=$(cargo test --locked --no-run -p schwelle --test cli --message-format=json 2>/dev/null \
        | sed -n 's/.*"executable":"\([^"]*\/cli-[^"]*\)".*/\1/p' | tail -n 1)
fi
export PC_DISKS="$built/examples/pc_disks"
# shellcheck disable=SC2086 # none or one
exec python3 tools/windows_test.py "$out/$target/debug/schwelle.exe" "$(cat "$out/units")" "$built/schwelle" $tests
