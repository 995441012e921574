#!/bin/bash
# tools/linux.sh OUT.img LOADERS: a disk with a Debian that starts in BIOS mode, as its own tools install one: MBR, ext4, swap, GRUB in
# sector 0 and the sectors after it; and in the folder LOADERS the distribution's signed UEFI boot loaders. Made from Debian's packages, as root. Kept in the target folder, and copied from there the next time.
set -euo pipefail
cd "$(dirname "$0")/.."
out=$1 loaders=$2
kept=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/real-data/linux
recipe=$(sha256sum tools/linux.sh | cut -d' ' -f1)
if [ "$(cat "$kept/.made" 2>/dev/null)" = "$recipe" ]; then
    cp --sparse=always "$kept/disk.img" "$out"
    cp -r "$kept/loaders" "$loaders"
    exit
fi

needed="debootstrap:debootstrap grub-install:grub2-common grub-mkimage:grub-common mkfs.ext4:e2fsprogs losetup:mount"
packages=$(for pair in $needed; do command -v "${pair%%:*}" >/dev/null || echo "${pair##*:}"; done | sort -u)
[ -d /usr/lib/grub/i386-pc ] || packages+=" grub-pc-bin"
if [ -n "$packages" ]; then
    # shellcheck disable=SC2086 # a list of packages
    DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $packages
fi
# Where this machine gets its packages from.
site=$(apt-get indextargets --format '$(SITE)' "Created-By: Packages" | grep -v security | head -n 1)
release=$(. /etc/os-release && echo "$VERSION_CODENAME")
mkdir -p "$kept"
work=$(mktemp -d)
root=$work/root
disk=$work/disk.img
loop=
cleanup() {
    mountpoint -q "$root" && umount --recursive --lazy "$root"
    [ -z "$loop" ] || { delpart "$loop" 1; delpart "$loop" 2; losetup --detach "$loop"; }
    rm -rf "$work"
}
trap cleanup EXIT
mkdir "$root"

# 1.5 GiB of ext4 from sector 2048 on, and 256 MiB of swap at the end of the disk.
truncate -s $((2 * 1024 - 200))M "$disk"
python3 - "$disk" <<'PY'
import struct, sys
def entry(active, kind, first, sectors):
    return struct.pack("<B3sB3sII", active, b"\xfe\xff\xff", kind, b"\xfe\xff\xff", first, sectors)
table = entry(0x80, 0x83, 2048, 3 << 20) + entry(0, 0x82, 2048 + (3 << 20), 512 << 10) + bytes(32)
with open(sys.argv[1], "r+b") as disk:
    disk.seek(440)
    disk.write(struct.pack("<IH", 0x5EED1A17, 0) + table + b"\x55\xaa")
PY
loop=$(losetup --find --show "$disk")
# Not every kernel reads tables from loop devices, so the partitions are named to it.
addpart "$loop" 1 2048 $((3 << 20))
addpart "$loop" 2 $((2048 + (3 << 20))) $((512 << 10))
for number in 1 2; do
    [ -b "$loop"p$number ] || mknod "$loop"p$number b $(tr : ' ' <"/sys/block/${loop#/dev/}/${loop#/dev/}p$number/dev")
done
mkfs.ext4 -q -L Speicher -U 7b2f0c1e-6a51-4a0e-9f1d-3c5d1a2b4e01 -E hash_seed=7b2f0c1e-6a51-4a0e-9f1d-3c5d1a2b4e02 "$loop"p1
mkswap -q -L Tausch -U 7b2f0c1e-6a51-4a0e-9f1d-3c5d1a2b4e03 "$loop"p2 >/dev/null
mount "$loop"p1 "$root"
debootstrap --variant=minbase --include=linux-image-amd64,grub-pc-bin,grub2-common,systemd-sysv,udev,initramfs-tools "$release" "$root" "$site" >"$work/log" 2>&1 ||
    { tail -n 40 "$work/log" >&2; exit 1; }
cat >"$root/etc/fstab" <<'FSTAB'
UUID=7b2f0c1e-6a51-4a0e-9f1d-3c5d1a2b4e01 / ext4 errors=remount-ro 0 1
UUID=7b2f0c1e-6a51-4a0e-9f1d-3c5d1a2b4e03 none swap sw 0 0
FSTAB
echo leuchtturm >"$root/etc/hostname"
mkdir -p "$root/etc/default"
cat >"$root/etc/default/grub" <<'GRUB'
GRUB_DEFAULT=0
GRUB_TIMEOUT=1
GRUB_DISTRIBUTOR=Debian
GRUB_CMDLINE_LINUX="console=tty0 console=ttyS0,115200"
GRUB
# As another program of its package writes it, where it finds a Windows.
cat >>"$root/etc/grub.d/40_custom" <<'CUSTOM'
menuentry 'Windows (on the third partition)' {
    insmod part_msdos
    insmod ntfs
    set root='hd0,msdos3'
    chainloader +1
}
CUSTOM
# Its tools name volumes by UUID where the links are there that a running system makes.
mount -t tmpfs none "$root/dev"
cp -a /dev/null /dev/zero /dev/urandom "$loop" "$loop"p1 "$loop"p2 "$root/dev/"
mkdir -p "$root/dev/disk/by-uuid"
ln -s ../../"${loop#/dev/}"p1 "$root/dev/disk/by-uuid/7b2f0c1e-6a51-4a0e-9f1d-3c5d1a2b4e01"
mount -t proc proc "$root/proc"
mount -t sysfs sysfs "$root/sys"
chroot "$root" sh -c "grub-install --target=i386-pc --no-floppy $loop && update-grub" >"$work/log" 2>&1 || { tail -n 40 "$work/log" >&2; exit 1; }
rm -rf "$root"/var/cache/apt/archives/*.deb "$root"/var/lib/apt/lists/*
umount --recursive "$root"
e2fsck -f -n "$loop"p1 >/dev/null
for number in 1 2; do delpart "$loop" $number; done
losetup --detach "$loop"
loop=
cp --sparse=always "$disk" "$kept/disk.img"
rm -rf "$kept/loaders"
mkdir "$kept/loaders"
(
    cd "$work"
    apt-get download -q -o APT::Sandbox::User=root grub-efi-amd64-signed shim-signed shim-helpers-amd64-signed >>log
    for package in *.deb; do dpkg -x "$package" loaders; done
)
cp "$work"/loaders/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed "$work"/loaders/usr/lib/shim/shimx64.efi.signed \
    "$work"/loaders/usr/lib/shim/mmx64.efi.signed "$kept/loaders/"
echo "$recipe" >"$kept/.made"
cp --sparse=always "$kept/disk.img" "$out"
cp -r "$kept/loaders" "$loaders"
