#!/bin/bash
# reproducible.sh [PROGRAM [CARGO OPTION...]]: builds a program that was built with the flags of flags.sh once more, from a copy of
# the source in another folder and into another, and compares the two, byte by byte. Without a program it makes that one as well.
# More flags come from MORE_RUSTFLAGS.
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/flags.sh
again=$(mktemp -d)
trap 'rm -rf "$again"' EXIT
machine=$(uname -m)-unknown-linux-gnu
# build SOURCE TARGET [CARGO OPTION...]
build() {
    source=$1 target=$2
    shift 2
    (cd "$source" && RUSTFLAGS="$(flags "$source" "$target") ${MORE_RUSTFLAGS:-}" \
        cargo build --locked --quiet --target "$machine" --target-dir "$target" --bin schwelle "$@")
}
if [ $# = 0 ]; then
    build "$PWD" "$again/here"
    set -- "$again/here/$machine"/*/schwelle
fi
program=$(realpath "$1")
shift
# What git knows, as it is here; with other times, another umask, in another time zone.
mkdir -p "$again/deeper/source"
git ls-files -z | tar --create --null --files-from=- | tar --extract --directory="$again/deeper/source"
find "$again/deeper/source" -exec touch -d 2001-01-01 {} +
umask 077
export TZ=Pacific/Chatham
build "$again/deeper/source" "$again/there" "$@"
cmp "$program" "$again/there/$machine"/*/schwelle
echo "$program: the same, byte by byte, when it is built elsewhere"
