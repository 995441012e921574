#!/bin/sh
# Builds the stand-in boot programs from the C sources beside this script into ../assets/boot.
# Needs: clang, lld, binutils (packages of these names). No C library, no headers.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
out="$here/../assets/boot"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$out"

# image SOURCE MACHINE SUBSYSTEM ENTRY NAME
image() {
    clang -target "$2-unknown-windows" -ffreestanding -fno-stack-protector -mno-stack-arg-probe -fshort-wchar \
        -Wall -Wextra -Werror -O2 -c "$here/$1" -o "$work/object.o"
    lld-link "/subsystem:$3" "/entry:$4" /nodefaultlib /driver /safeseh:no /timestamp:0 /out:"$out/$5" "$work/object.o"
}

image boot_manager.c x86_64 efi_application efi_main bootmgfw.efi
image system_image.c x86_64 boot_application entry winload.efi
image system_image.c x86_64 native entry ntoskrnl.exe
image system_image.c i686 native entry ntoskrnl-32bit.exe
image system_image.c aarch64 efi_application entry loader-arm64.efi

# The boot manager of a BIOS start: a flat program for real mode, which volumes.sh makes as long as a real one.
clang -target i386-unknown-none-code16 -m16 -march=i386 -ffreestanding -fno-stack-protector -fno-pic -Wall -Wextra -Werror \
    -Os -c "$here/bios_boot_manager.c" -o "$work/bios.o"
echo 'SECTIONS { . = 0; .all : { *(.head) *(.text*) *(.rodata*) *(.data*) *(.bss*) } /DISCARD/ : { *(*) } }' > "$work/bios.ld"
ld -m elf_i386 -T "$work/bios.ld" -e 0 -o "$work/bios.elf" "$work/bios.o"
objcopy -O binary -j .all --set-section-flags .all=alloc,load,contents "$work/bios.elf" "$out/bootmgr.bin"
ls -l "$out"
