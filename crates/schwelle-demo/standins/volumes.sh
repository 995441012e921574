#!/bin/bash
# Makes the NTFS volumes of the demo disks from nothing, with the file system's own utilities, and packs them into
# ../assets. Needs root or access to /dev/fuse, and the packages: ntfs-3g, python3-hivex, zstd, attr.
# Run build.sh and sign.sh first.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
assets="$here/../assets"
work=$(mktemp -d)
mnt="$work/mnt"
mkdir "$mnt" "$work/hives"
trap 'mountpoint -q "$mnt" && umount "$mnt"; rm -rf "$work"' EXIT
/usr/bin/python3 "$here/hives.py" "$work/hives"

# filler BYTES SEED: text that does not repeat, the same on every run.
filler() {
    /usr/bin/python3 - "$1" "$2" <<'PY'
import random, sys
length, seed = int(sys.argv[1]), sys.argv[2]
words = "tide lamp rope gull harbour fog bell chart anchor breeze buoy keel lantern mast pier quay reef sail".split()
rng, out, size = random.Random(seed), [], 0
while size < length:
    out.append(rng.choice(words)); size += len(out[-1]) + 1
sys.stdout.write(" ".join(out)[:length])
PY
}

# padded IMAGE BYTES: the stand-in program, padded, so that it lies in clusters of its own as a real one does.
padded() { cp "$1" "$3"; truncate -s "$2" "$3"; }

# volume NAME MIB SECTOR HIDDEN_SECTORS LABEL
volume() {
    truncate -s "$2M" "$work/$1.img"
    mkntfs -F -Q -q -s "$3" -c 4096 -p "$4" -H 255 -S 63 -L "$5" "$work/$1.img"
    ntfs-3g -o streams_interface=openxattr,compression "$work/$1.img" "$mnt"
}

finish() {
    umount "$mnt"
    zstd -q -f -19 --long=27 "$work/$1.img" -o "$assets/$1.img.zst"
    ls -l "$assets/$1.img.zst"
}

boot_files() {
    mkdir -p "$mnt/Boot/de-DE" "$mnt/Recovery/WindowsRE" "$mnt/System Volume Information"
    /usr/bin/python3 "$here/pack_bios.py" "$assets/boot/bootmgr.bin" "$mnt/bootmgr"
    cp "$work/hives/BCD" "$mnt/Boot/BCD"
    filler 20000 memtest > "$mnt/Boot/memtest.exe"
    filler 3000 mui > "$mnt/Boot/de-DE/bootmgr.exe.mui"
    printf 1 > "$mnt/BOOTNXT"
    filler 120000 winre > "$mnt/Recovery/WindowsRE/Winre.wim"
    filler 9000 sdi > "$mnt/Recovery/WindowsRE/boot.sdi"
}

windows_files() {
    local win="$mnt/Windows"
    mkdir -p "$win/System32/config" "$win/Boot/EFI/de-DE" "$win/Boot/EFI/en-US" "$win/Boot/Fonts" \
        "$win/Boot/Resources/de-DE" "$win/Boot/PCAT/de-DE" "$win/Boot/PCAT/en-US" "$mnt/Users/wanda/Documents" "$mnt/Program Files"
    padded "$assets/boot/ntoskrnl.exe" 65536 "$win/System32/ntoskrnl.exe"
    padded "$assets/boot/winload.efi" 32768 "$win/System32/winload.efi"
    padded "$assets/boot/winload.efi" 32768 "$win/System32/winload.exe"
    padded "$assets/boot/winload.efi" 16384 "$win/System32/winresume.efi"
    cp "$work/hives/SYSTEM" "$work/hives/SOFTWARE" "$win/System32/config/"
    mkdir "$win/System32/Recovery"
    cp "$work/hives/ReAgent.xml" "$win/System32/Recovery/"
    # As on a real system: a directory large enough to need index blocks.
    for n in $(seq -w 1 400); do echo "module $n" > "$win/System32/module$n.dll"; done
    cp "$assets/boot/bootmgfw-signed.efi" "$win/Boot/EFI/bootmgfw.efi"
    padded "$assets/boot/bootmgfw.efi" 36864 "$win/Boot/EFI/bootmgr.efi"
    padded "$assets/boot/bootmgfw.efi" 20480 "$win/Boot/EFI/memtest.efi"
    for lang in de-DE en-US; do
        filler 5000 "$lang" > "$win/Boot/EFI/$lang/bootmgfw.efi.mui"
        filler 5100 "$lang" > "$win/Boot/EFI/$lang/bootmgr.efi.mui"
    done
    /usr/bin/python3 "$here/pack_bios.py" "$assets/boot/bootmgr.bin" "$win/Boot/PCAT/bootmgr"
    printf 1 > "$win/Boot/PCAT/bootnxt"
    filler 20000 memtest > "$win/Boot/PCAT/memtest.exe"
    for lang in de-DE en-US; do
        filler 3000 "$lang" > "$win/Boot/PCAT/$lang/bootmgr.exe.mui"
        filler 2500 "$lang" > "$win/Boot/PCAT/$lang/memtest.exe.mui"
    done
    # The folder of the fonts is compressed by the file system, as some have it.
    setfattr -n system.ntfs_attrib -v 0x00080000 "$win/Boot/Fonts"
    for font in mono_boot slab_boot wide_boot; do filler 30000 $font > "$win/Boot/Fonts/$font.ttf"; done
    filler 50000 bootres > "$win/Boot/Resources/bootres.dll"
    filler 600 bootresmui > "$win/Boot/Resources/de-DE/bootres.dll.mui"
    truncate -s 1M "$mnt/hiberfil.sys"
    dd if=/dev/zero of="$mnt/hiberfil.sys" bs=64K count=16 status=none
    dd if=/dev/zero of="$mnt/pagefile.sys" bs=64K count=16 status=none
    filler 250000 watch > "$mnt/Users/wanda/Documents/Wachbuch Südmole 2025.txt"
    filler 700 small > "$mnt/Users/wanda/Documents/kleine Notiz.txt"
    ln "$mnt/Users/wanda/Documents/kleine Notiz.txt" "$mnt/Users/wanda/Documents/Notiz (zweiter Name).txt"
    truncate -s 3M "$mnt/Users/wanda/Documents/sparse.dat"
    filler 5000 sparse | dd of="$mnt/Users/wanda/Documents/sparse.dat" bs=4096 seek=300 conv=notrunc status=none
    setfattr -n user.origin -v "second stream of the tide table" "$mnt/Users/wanda/Documents/kleine Notiz.txt"
    # Two files that grow in turns, so that each has many runs.
    for n in $(seq 1 60); do
        filler 4096 "a$n" >> "$mnt/Users/wanda/Documents/log-a.txt"
        filler 4096 "b$n" >> "$mnt/Users/wanda/Documents/log-b.txt"
    done
}

for sector in 512 4096; do
    suffix=$([ $sector = 512 ] && echo "" || echo "-4k")
    volume "boot$suffix" 50 $sector $((1048576 / sector)) "System-reserviert"
    boot_files
    finish "boot$suffix"
    volume "windows$suffix" 160 $sector $((51 * 1048576 / sector)) "Leuchtturm"
    windows_files
    finish "windows$suffix"
done
