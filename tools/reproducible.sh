#!/bin/bash
# reproducible.sh PROGRAM [CARGO OPTION...]: builds a program that was built with the flags of flags.sh once more, from a copy of the
# source in another folder and into another, and compares the two, byte by byte. More flags come from MORE_RUSTFLAGS.
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/flags.sh
program=$(realpath "$1")
shift
again=$(mktemp -d)
trap 'rm -rf "$again"' EXIT
source=$again/deeper/source target=$again/target machine=$(uname -m)-unknown-linux-gnu
# What git knows, as it is here; with other times, another umask, in another time zone.
mkdir -p "$source"
git ls-files -z | tar --create --null --files-from=- | tar --extract --directory="$source"
find "$source" -exec touch -d 2001-01-01 {} +
umask 077
RUSTFLAGS="$(flags "$source" "$target") ${MORE_RUSTFLAGS:-}"
export RUSTFLAGS TZ=Pacific/Chatham
(cd "$source" && cargo build --locked --quiet --target "$machine" --target-dir "$target" --bin schwelle "$@")
cmp "$program" "$target/$machine"/*/schwelle
echo "$program: the same, byte by byte, when it is built elsewhere"
