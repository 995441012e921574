#!/bin/bash
# Installs the programs that judge Schwelle's results in the tests (Debian; as root). Does nothing if all are there.
set -euo pipefail
cd "$(dirname "$0")/.."
needed="cc:gcc ntfs-3g:ntfs-3g ntfsfix:ntfs-3g ntfsresize:ntfs-3g mkntfs:ntfs-3g ntfscluster:ntfs-3g setfattr:attr fsck.vfat:dosfstools
mcopy:mtools mmls:sleuthkit hivexregedit:libwin-hivex-perl qemu-system-x86_64:qemu-system-x86 cryptsetup:cryptsetup-bin
setpriv:util-linux addpart:util-linux wimlib-imagex:wimtools as:binutils objcopy:binutils losetup:mount qemu-img:qemu-utils sbsign:sbsigntool
hash-to-efi-sig-list:efitools openssl:openssl mkfs.ext4:e2fsprogs mkfs.btrfs:btrfs-progs mkfs.xfs:xfsprogs mkfs.exfat:exfatprogs
mkudffs:udftools mkapfs:apfsprogs hformat:hfsutils genisoimage:genisoimage vshadowinfo:libvshadow-utils bdemount:libbde-utils
grub-mkimage:grub-common ansible-playbook:ansible-core ansible-lint:ansible-lint sshd:openssh-server ssh:openssh-client zstd:zstd
x86_64-w64-mingw32-windres:binutils-mingw-w64-x86-64 strace:strace lintian:lintian debootstrap:debootstrap"

# Packages that are missing, one a line.
missing() {
    local pair
    for pair in $needed; do
        command -v "${pair%%:*}" >/dev/null 2>&1 || echo "${pair##*:}"
    done
    [ -f /usr/share/OVMF/OVMF_CODE_4M.fd ] || echo ovmf
    /usr/bin/python3 -c "import jsonschema" 2>/dev/null || echo python3-jsonschema
    /usr/bin/python3 -c "import cryptography" 2>/dev/null || echo python3-cryptography
    /usr/bin/python3 -c "import numpy" 2>/dev/null || echo python3-numpy
    [ -d /usr/lib/python3/dist-packages/ansible_collections/ansible/windows ] || echo ansible
    [ -f /usr/lib/ipxe/qemu/pxe-e1000.rom ] || echo ipxe-qemu
    [ -f /usr/lib/grub/i386-pc/boot.img ] || echo grub-pc-bin
    [ -f /usr/lib/grub/x86_64-efi/moddep.lst ] || echo grub-efi-amd64-bin
    [ -f /usr/lib/shim/shimx64.efi.signed ] || echo shim-signed
}

# Twice at most: a package of another release that was there before may be removed by the ones installed.
for _ in 1 2; do
    packages=$(missing | sort -u | tr '\n' ' ')
    [ -n "$packages" ] || break
    echo "installing: $packages"
    apt-get update -q
    # shellcheck disable=SC2086 # a list of packages
    DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $packages
done
packages=$(missing | sort -u | tr '\n' ' ')
[ -z "$packages" ] || { echo "still missing, of the packages: $packages" >&2; exit 1; }
[ -e /dev/fuse ] || { echo "still missing: /dev/fuse, which mounting NTFS volumes needs" >&2; exit 1; }
# And what real systems wrote.
tools/real-data.sh
