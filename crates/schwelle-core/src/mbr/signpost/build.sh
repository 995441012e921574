#!/bin/sh
# Makes signpost.bin from signpost.s beside it. Needs: as, ld, objcopy (package binutils). With a file name, writes there.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=${1:-$here/signpost.bin}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
as --32 -o "$work/signpost.o" "$here/signpost.s"
ld -m elf_i386 -Ttext 0x7C00 -e _start -o "$work/signpost.elf" "$work/signpost.o"
objcopy -O binary -j .text "$work/signpost.elf" "$out"
size=$(wc -c < "$out")
[ "$size" -le 440 ] || { echo "signpost.bin has $size bytes, 440 fit" >&2; exit 1; }
