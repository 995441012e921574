#!/bin/sh
# Brings the programs that judge Schwelle's results in the tests (Debian or Ubuntu; as root). Does nothing where all are there.
set -eu
needed="ntfs-3g:ntfs-3g ntfsfix:ntfs-3g ntfsresize:ntfs-3g mkntfs:ntfs-3g ntfscluster:ntfs-3g setfattr:attr fsck.vfat:dosfstools mcopy:mtools mmls:sleuthkit
hivexregedit:libwin-hivex-perl qemu-system-x86_64:qemu-system-x86 cryptsetup:cryptsetup-bin setpriv:util-linux wimlib-imagex:wimtools as:binutils objcopy:binutils losetup:mount qemu-img:qemu-utils sbsign:sbsigntool hash-to-efi-sig-list:efitools openssl:openssl mkfs.ext4:e2fsprogs"
missing=""
for pair in $needed; do
    command -v "${pair%%:*}" >/dev/null 2>&1 || missing="$missing ${pair##*:}"
done
[ -f /usr/share/OVMF/OVMF_CODE_4M.fd ] || missing="$missing ovmf"
/usr/bin/python3 -c "import jsonschema" 2>/dev/null || missing="$missing python3-jsonschema"
[ -f /usr/lib/shim/shimx64.efi.signed ] || missing="$missing shim-signed"
if [ -n "$missing" ]; then
    echo "installing:$missing"
    apt-get update -q
    # shellcheck disable=SC2086 # a list of packages
    DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $missing
fi
for pair in $needed; do
    command -v "${pair%%:*}" >/dev/null 2>&1 || { echo "still missing: ${pair%%:*}" >&2; exit 1; }
done
[ -f /usr/share/OVMF/OVMF_CODE_4M.fd ] || { echo "still missing: the UEFI firmware OVMF_CODE_4M.fd" >&2; exit 1; }
/usr/bin/python3 -c "import jsonschema" || { echo "still missing: Python's jsonschema" >&2; exit 1; }
[ -e /dev/fuse ] || { echo "still missing: /dev/fuse, which mounting NTFS volumes needs" >&2; exit 1; }
