#!/bin/sh
# Makes the boot code from its sources, each .bin beside its .s; with a folder, writes there (signpost.bin, mbr-active.bin,
# fat-boot.bin). Needs: as, ld, objcopy (package binutils).
set -eu
src=$(cd "$(dirname "$0")" && pwd)/src
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

# program SOURCE ADDRESS BYTES OUT: assembles for the address at which it runs; the bytes are what fits.
program() {
    as --32 -o "$work/program.o" "$src/$1"
    ld -m elf_i386 -Ttext "$2" -e _start -o "$work/program.elf" "$work/program.o"
    objcopy -O binary -j .text "$work/program.elf" "$4"
    size=$(wc -c < "$4")
    [ "$size" -le "$3" ] || { echo "$1 makes $size bytes, $3 fit" >&2; exit 1; }
}

out=${1:-$work}
program mbr/signpost/signpost.s 0x7C00 440 "$out/signpost.bin"
program mbr/boot-code/active.s 0x0600 440 "$out/mbr-active.bin"
program fat/boot-code/boot.s 0x7C5A 420 "$out/fat-boot.bin"
if [ $# -eq 0 ]; then
    cp "$out/signpost.bin" "$src/mbr/signpost/signpost.bin"
    cp "$out/mbr-active.bin" "$src/mbr/boot-code/active.bin"
    cp "$out/fat-boot.bin" "$src/fat/boot-code/boot.bin"
fi
