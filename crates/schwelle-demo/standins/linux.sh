#!/bin/bash
# Makes the ext4 volume of a made-up Linux, with the file system's own utilities and from the programs of build.sh, and packs it into
# ../assets. Its boot loader is the stand-in boot manager, with the folder noted at its end that GRUB would have in it; its kernel is a
# program that firmware could start. Needs the packages: e2fsprogs, zstd. Run build.sh first.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
assets="$here/../assets"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
root=$work/root
uuid=1e0c47f0-0000-4000-8000-0000001e0c47
mkdir -p "$root"/{etc,home/wanda} "$root"/boot/grub "$root"/usr/lib/grub/x86_64-efi-signed

cat > "$root/etc/os-release" <<'TEXT'
PRETTY_NAME="Leuchtfeuer Linux 3"
NAME="Leuchtfeuer Linux"
VERSION_ID="3"
ID=leuchtfeuer
TEXT
echo "UUID=$uuid / ext4 defaults 0 1" > "$root/etc/fstab"
echo "Wind west, force four." > "$root/home/wanda/log.txt"
cat > "$root/boot/grub/grub.cfg" <<TEXT
set default="0"
set timeout=5
menuentry 'Leuchtfeuer Linux' --class os {
	insmod part_msdos
	insmod ext2
	set root='hd0,msdos3'
	search --no-floppy --fs-uuid --set=root $uuid
	linux /boot/vmlinuz-3.1 root=UUID=$uuid ro quiet
	initrd /boot/initrd.img-3.1
}
menuentry 'Windows 10 (on partition 1)' --class windows {
	insmod part_msdos
	insmod ntfs
	set root='hd0,msdos1'
	chainloader +1
}
TEXT
cp "$assets/boot/bootmgfw.efi" "$root/boot/vmlinuz-3.1"
head -c 200000 /dev/zero | tr '\0' 'r' > "$root/boot/initrd.img-3.1"
/usr/bin/python3 - "$assets/boot/bootmgfw.efi" "$root/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed" <<'PY'
import struct, sys
program = open(sys.argv[1], "rb").read()
prefix = b"/EFI/leuchtfeuer\0".ljust(24, b"\0")
modules = struct.pack("<II", 3, 8 + len(prefix)) + prefix
open(sys.argv[2], "wb").write(program + b"mimg" + struct.pack("<IQQ", 0, 24, 24 + len(modules)) + modules)
PY
# The same on every run.
find "$root" -exec touch -d @1700000000 {} +
export E2FSPROGS_FAKE_TIME=1700000000
mkfs.ext4 -q -F -L Feuer -U "$uuid" -E hash_seed="$uuid",lazy_itable_init=0 -O ^metadata_csum -d "$root" "$work/linux.img" 24M
e2fsck -f -n "$work/linux.img" > /dev/null
zstd -q -f -19 "$work/linux.img" -o "$assets/linux.img.zst"
ls -l "$assets/linux.img.zst"
