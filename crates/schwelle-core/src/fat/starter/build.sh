#!/bin/sh
# Makes starter.bin from starter.s beside it. Needs: as, ld, objcopy (package binutils). With a file name, writes there.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out=${1:-$here/starter.bin}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
as --32 -o "$work/starter.o" "$here/starter.s"
ld -m elf_i386 -Ttext 0x7C5A -e _start -o "$work/starter.elf" "$work/starter.o"
objcopy -O binary -j .text "$work/starter.elf" "$out"
size=$(wc -c < "$out")
[ "$size" -le 420 ] || { echo "starter.bin has $size bytes, 420 fit" >&2; exit 1; }
