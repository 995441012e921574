#!/bin/bash
# Makes the rescue stick: stick.sh OUT.img. An image of a USB stick that starts a PC in BIOS mode and in UEFI mode, with Secure
# Boot on as well (Debian's signed shim, boot loader and kernel), with the static program and a partition for job folders.
#
#   --key FILE.pub     with network, Python, and an SSH server that accepts this key and nothing else. Without it there is none.
#   --network FOLDER   with network; a new folder for a TFTP or HTTP server, to start PCs from in place of a stick, or beside one
#
# Needs Debian 12 with its packages (fetched and unpacked, not installed) and the Rust toolchain; no root.
# SCHWELLE=FILE takes a static program that was made before. Packages are kept in ${XDG_CACHE_HOME:-~/.cache}/schwelle-stick.
set -euo pipefail
usage() { echo "usage: $0 [--key FILE.pub] [--network FOLDER] [OUT.img]" >&2; exit 2; }
out='' key='' network=''
while [ $# -gt 0 ]; do
    case $1 in
        --key) key=$(realpath -e "${2:?}") && shift 2 ;;
        --network) network=$(realpath -m "${2:?}") && shift 2 ;;
        -*) usage ;;
        *) [ -z "$out" ] && out=$(realpath -m "$1") && shift || usage ;;
    esac
done
[ -n "$out$network" ] || usage
# The private half makes root on every PC that is started from this.
[ -z "$key" ] || grep -qE '^(ssh-|ecdsa-)[^ ]+ AAAA' "$key" || { echo "$key is no public key" >&2; exit 2; }
[ -z "$network" ] || mkdir "$network"
here=$(cd "$(dirname "$0")" && pwd)
cache=${XDG_CACHE_HOME:-$HOME/.cache}/schwelle-stick
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

# MiB: the boot partition, the jobs partition. Both begin at a whole MiB; the boot loader for BIOS lies before the first.
boot_mib=96 jobs_mib=160

program=${SCHWELLE:-}
if [ -z "$program" ]; then
    "$here/release.sh"
    program=${CARGO_TARGET_DIR:-$here/../target}/$(uname -m)-unknown-linux-gnu/dist/schwelle
fi

# The newest signed kernel is what the package of that purpose asks for.
kernel=$(apt-cache depends --important linux-image-amd64 | sed -n 's/.*Depends: \(linux-image-[0-9].*\)/\1/p' | tail -n 1)
[ -n "$kernel" ] || { echo "the package list has no kernel: run apt-get update first" >&2; exit 1; }
packages="$kernel busybox-static grub-common grub-pc-bin grub-efi-amd64-signed shim-signed
    shim-helpers-amd64-signed kmod libkmod2 mtools dosfstools kbd console-data cpio zstd libdevmapper1.02.1"
# What runs on the stick and is no static program: the driver for NTFS, which the kernel cannot write, and what repairs that.
inside="ntfs-3g libntfs-3g89 libc6"
if [ -n "$key" ]; then
    # The SSH server, and what Ansible asks of a host.
    inside+=" dropbear-bin libtomcrypt1 libtommath1 libgmp10 libgcc-s1 libcrypt1 zlib1g python3.11-minimal
        libpython3.11-minimal libpython3.11-stdlib libexpat1 libssl3 libbz2-1.0 liblzma5 libffi8 libuuid1"
fi
mkdir -p "$cache" "$work/debs" "$work/tree"
declare -A file
missing=()
while read -r package version; do
    file[$package]=$cache/${package}_$(tr : _ <<<"$version").deb
    [ -f "${file[$package]}" ] || missing+=("$package")
done < <(apt-cache policy $packages $inside | awk '/^[^ ]/ { name = substr($1, 1, length($1) - 1) } /Candidate:/ { print name, $2 }')
if [ ${#missing[@]} -gt 0 ]; then
    (cd "$work/debs" && apt-get download -q "${missing[@]}" >/dev/null 2>&1) ||
        { echo "cannot fetch the packages ${missing[*]}" >&2; exit 1; }
    for package in "${missing[@]}"; do
        mv "$work/debs/${package}"_*.deb "${file[$package]}"
    done
fi
unpack() { # unpack FOLDER PACKAGE...
    local folder=$1 package
    for package in "${@:2}"; do
        dpkg -x "${file[$package]:?the package list does not have $package: run apt-get update first}" "$folder"
    done
}
unpack "$work/tree" $packages
unpack "$work/inside" $inside
tree=$work/tree
# The package's own link leads out of the tree.
mkdir "$work/bin"
ln -s "$tree/bin/kmod" "$work/bin/depmod"
PATH=$work/bin:$tree/bin:$tree/sbin:$tree/usr/bin:$tree/usr/sbin:$PATH
export LD_LIBRARY_PATH=$tree/lib/x86_64-linux-gnu:$tree/usr/lib/x86_64-linux-gnu
version=${kernel#linux-image-}

# --- what runs: one folder in memory
root=$work/root
modules=$root/lib/modules/$version
mkdir -p "$root"/{bin,keymaps} "$modules/kernel"
cp "$tree/bin/busybox" "$root/bin/busybox"
strip -o "$root/bin/schwelle" "$program"
cp "$here/stick/init" "$root/init"
cp "$here/stick/"{menu,steps,other-stick} "$root/bin/"
chmod 755 "$root/init" "$root/bin/"*
# Disks on every bus, the file systems of sticks, keyboards, and what these modules need. No sound, no pictures; network only where
# it was asked for.
depmod -b "$tree" "$version"
wanted='^kernel/(drivers/(ata|nvme|scsi|message|usb/(host|storage|common|core|misc)|mmc|virtio|block|hid|md|firmware|thunderbolt'
wanted+='|cdrom|misc/cardreader|memstick|input/(keyboard|serio)|platform/surface)|fs/(fat|exfat|ext4|nls|fuse|efivarfs|btrfs))/'
# The checksum that ext4 asks for by name, which modules.dep does not know of.
wanted+='|^kernel/(crypto/crc32c_generic|arch/x86/crypto/crc32c-intel)\.ko'
# Network cards as PCs have them, also those on USB.
if [ -n "$key$network" ]; then
    wanted+='|^kernel/drivers/net/((phy|mdio|usb)/|virtio_net|ethernet/(3com|amd|aquantia|atheros|broadcom/(b44|bnx2|tg3)|dec'
    wanted+='|intel/(e100|e1000|e1000e|igb|igc)|jme|marvell|nvidia|realtek|sis|via))'
    mkdir -p "$root/etc"
    cp "$here/stick/network" "$root/bin/network"
    chmod 755 "$root/bin/network"
fi
# Each line of modules.dep has a module and all that it needs.
grep -E "$wanted" "$tree/lib/modules/$version/modules.dep" | tr -d : | tr ' ' '\n' | sort -u |
    tar -c -C "$tree/lib/modules/$version" -T - | tar -x -C "$modules"
cp "$tree/lib/modules/$version"/modules.{builtin,builtin.modinfo,order} "$modules/"
depmod -b "$root" "$version"
# The layouts that technicians have asked for most.
maps=$tree/usr/share/keymaps/i386
find "$maps" -name '*.gz' -exec gunzip {} +
export LOADKEYS_INCLUDE_PATH=$maps/include:$maps/qwerty:$maps/qwertz:$maps/azerty
for map in qwerty/{us,uk,es,it,pl,pt-latin1,se-latin1,no-latin1,dk-latin1,nl} qwertz/{de-latin1-nodeadkeys,sg,cz-us-qwertz,hu} \
    azerty/{fr-latin1,be-latin1}; do
    loadkeys -q -b "$maps/$map.kmap" >"$root/keymaps/$(basename "$map")"
done
lib=lib/x86_64-linux-gnu
mkdir -p "$root"/{lib64,$lib,usr/$lib}
for from in $lib usr/$lib; do
    [ ! -d "$work/inside/$from" ] || find "$work/inside/$from" -maxdepth 1 -name '*.so*' -exec cp -a {} "$root/$from/" \;
done
cp -a "$work/inside/lib64/." "$root/lib64/"
cp "$work/inside/bin/"{ntfs-3g,ntfsfix} "$root/bin/"
if [ -n "$key" ]; then
    mkdir -p "$root"/{usr/bin,root/.ssh}
    cp -a "$work/inside/usr/lib/python3.11" "$root/usr/lib/"
    rm -rf "$root"/usr/lib/python3.11/{lib2to3,ensurepip,pydoc_data,idlelib,tkinter,turtledemo,unittest,distutils,sqlite3,curses}
    cp "$work/inside/usr/bin/python3.11" "$root/usr/bin/python3"
    cp "$work/inside/usr/sbin/dropbear" "$work/inside/usr/bin/dropbearkey" "$root/bin/"
    echo root:x:0:0:root:/root:/bin/sh >"$root/etc/passwd"
    echo root:x:0: >"$root/etc/group"
    cp "$key" "$root/root/.ssh/authorized_keys"
    chmod -R go= "$root/root"
fi
(cd "$root" && find . -print0 | LC_ALL=C sort -z | cpio -0 --quiet -o -H newc -R 0:0 | zstd -q -T0 -9) >"$work/initrd.img"

# --- what a server hands out
if [ -n "$network" ]; then
    cp "$tree/boot/vmlinuz-$version" "$network/vmlinuz"
    cp "$work/initrd.img" "$network/initrd.img"
    cp "$tree/usr/lib/shim/shimx64.efi.signed" "$network/bootx64.efi"
    cp "$tree/usr/lib/grub/x86_64-efi-signed/grubnetx64.efi.signed" "$network/grubx64.efi"
    mkdir "$network/grub"
    cp "$here/stick/network.cfg" "$network/grub/grub.cfg"
    grub-mkimage -d "$tree/usr/lib/grub/i386-pc" -O i386-pc-pxe -p /grub -o "$network/schwelle.0" pxe tftp http configfile normal linux \
        echo test
    chmod -R u=rwX,go=rX "$network"
    echo "$network: $(du -sm "$network" | cut -f 1) MiB; kernel $version. BIOS starts schwelle.0, UEFI bootx64.efi"
fi
[ -n "$out" ] || exit 0

# --- the boot partition
id() { od -An -N4 -tx4 /dev/urandom | tr -d ' ' | tr a-f A-F; }
boot_id=$(id) jobs_id=$(id)
dashed() { echo "${1:0:4}-${1:4}"; }
sed "s/@BOOT@/$(dashed "$boot_id")/; s/@JOBS@/$(dashed "$jobs_id")/" "$here/stick/grub.cfg" >"$work/grub.cfg"
fat() { # fat FILE MIB LABEL ID FIRST_MIB
    truncate -s "$2M" "$1"
    mkfs.vfat -F 32 -s 1 -n "$3" -i "$4" -h $(($5 * 2048)) "$1" >/dev/null
}
fat "$work/boot.fat" $boot_mib SCHWELLE "$boot_id" 1
export MTOOLS_SKIP_CHECK=1
put() { mcopy -i "$work/boot.fat" "$1" "::$2"; }
mmd -i "$work/boot.fat" ::EFI ::EFI/BOOT ::EFI/debian
put "$tree/usr/lib/shim/shimx64.efi.signed" EFI/BOOT/BOOTX64.EFI
put "$tree/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed" EFI/BOOT/grubx64.efi
put "$tree/usr/lib/shim/mmx64.efi.signed" EFI/BOOT/mmx64.efi
put "$work/grub.cfg" EFI/debian/grub.cfg
put "$tree/boot/vmlinuz-$version" vmlinuz
put "$work/initrd.img" initrd.img

# --- the jobs partition
fat "$work/jobs.fat" $jobs_mib JOBS "$jobs_id" $((1 + boot_mib))

# --- the boot loader for BIOS: its sector 0, and the rest before the first partition
cat >"$work/early.cfg" <<CFG
search --no-floppy --fs-uuid --set=root $(dashed "$boot_id")
configfile (\$root)/EFI/debian/grub.cfg
CFG
grub-mkimage -d "$tree/usr/lib/grub/i386-pc" -O i386-pc -c "$work/early.cfg" -p /EFI/debian -o "$work/core.img" \
    biosdisk part_msdos fat search search_fs_uuid configfile normal linux echo test
[ "$(stat -c %s "$work/core.img")" -lt $((2047 * 512)) ] || { echo "the boot loader does not fit" >&2; exit 1; }

# --- the whole stick
entry() { # entry FLAG TYPE FIRST_MIB MIB
    local first=$(($3 * 2048)) sectors=$(($4 * 2048)) text=${1}feffff${2}feffff number
    for number in $first $sectors; do
        text+=$(printf '%08x' "$number" | sed 's/\(..\)\(..\)\(..\)\(..\)/\4\3\2\1/')
    done
    printf "$(sed 's/../\\x&/g' <<<"$text")"
}
rm -f "$out"
truncate -s $((1 + boot_mib + jobs_mib))M "$out"
into() { dd of="$out" conv=notrunc status=none bs=512 seek="$1"; }
{
    head -c 440 "$tree/usr/lib/grub/i386-pc/boot.img"
    printf "$(id | sed 's/../\\x&/g')\\0\\0"
    entry 80 ef 1 $boot_mib
    entry 00 0c $((1 + boot_mib)) $jobs_mib
    head -c 32 /dev/zero
    printf '\x55\xaa'
} | into 0
into 1 <"$work/core.img"
into 2048 <"$work/boot.fat"
into $(((1 + boot_mib) * 2048)) <"$work/jobs.fat"
echo "$out: $(($(stat -c %s "$out") >> 20)) MiB; kernel $version. Write it to a stick with: dd if=$out of=/dev/sdX bs=4M conv=fsync"
