#!/bin/bash
# Fetches files that real systems wrote, for the tests: from Debian's and Python's source packages, by their checksums, into
# the target folder, a folder for each package. Does nothing if they are there. No source entries are added to the machine.
set -euo pipefail
cd "$(dirname "$0")/.."
to=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/real-data
mkdir -p "$to"

# True where a package's files have been taken; a change of the list takes them again.
taken() { [ "$(cat "$to/$1/.taken" 2>/dev/null)" = "$*" ]; }

# keep NAME ARCHIVE SUM FILE...: checks the archive, and takes the files from it. What is compressed is unpacked: disks are mostly
# holes, and of those over 2 GiB only the first 64 MiB are looked at.
keep() {
    local name=$1 archive=$2 sum=$3 file out size part
    echo "$sum  $archive" | sha256sum --check --quiet || return 1
    rm -rf "${to:?}/$name"
    mkdir "$to/$name"
    tar -xzf "$archive" -C "$(dirname "$archive")" "${@:4}"
    for file in "${@:4}"; do
        out=$to/$name/$(basename "$file")
        mv "$(dirname "$archive")/$file" "$out"
        case $out in
        *.gz)
            size=$(gzip -l "$out" | awk 'NR == 2 { print $2 }')
            [ "$size" -gt $((2 << 30)) ] && part=64M || part=$size
            gunzip -c "$out" 2>/dev/null | head -c "$part" | cp --sparse=always /dev/stdin "${out%.gz}" || true
            truncate -s "$size" "${out%.gz}"
            rm "$out"
            ;;
        *.tar.xz)
            tar -xJf "$out" -C "$to/$name"
            rm "$out"
            ;;
        esac
    done
    printf '%s' "${*:1:1} ${*:3}" >"$to/$name/.taken"
}

# Name, version and SHA-256 of a Debian source package's original archive, the release that has it, and the files.
take() {
    local name=$1 version=$2 sum=$3 releases=$4
    ! taken "$name" "$sum" "${@:5}" || return 0
    echo "fetching: the source of $name $version"
    local work archive=${name}_$version.orig.tar.gz site
    work=$(mktemp -d)
    # Where this machine gets its packages from.
    site=$(apt-get indextargets --format '$(SITE)' "Created-By: Packages" | grep -v security | head -n 1)
    mkdir -p "$work/lists/partial" "$work/cache/archives/partial" "$work/parts"
    printf 'Types: deb-src\nURIs: %s\nSuites: %s\nComponents: main\nSigned-By: /usr/share/keyrings/debian-archive-keyring.gpg\n' \
        "$site" "$releases" >"$work/parts/source.sources"
    local apt=(apt-get -q -o Dir::Etc::SourceList=/dev/null -o Dir::Etc::SourceParts="$work/parts" -o Dir::State::Lists="$work/lists"
        -o Dir::Cache="$work/cache" -o APT::Sandbox::User=root)
    "${apt[@]}" update >"$work/log"
    # Only the original archive matters; the packaging beside it may have been replaced since.
    (cd "$work" && "${apt[@]}" source --download-only "$name" >>"$work/log" 2>&1) || true
    if ! keep "$name" "$work/$archive" "$sum" "${@:5}"; then
        cat "$work/log" >&2
        exit 1
    fi
    rm -rf "$work"
}

# The same of a Python source package.
take_python() {
    local name=$1 version=$2 sum=$3 work archive
    ! taken "$name" "$sum" "${@:4}" || return 0
    echo "fetching: the source of $name $version"
    command -v pip3 >/dev/null || DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends python3-pip
    work=$(mktemp -d)
    archive=$work/${name//./_}-$version.tar.gz
    if ! pip3 download -q --no-deps --no-binary "$name" -d "$work" "$name==$version" >"$work/log" 2>&1 ||
        ! keep "$name" "$archive" "$sum" "${@:4}"; then
        cat "$work/log" >&2
        exit 1
    fi
    rm -rf "$work"
}

# Of Windows 10: a volume with two shadow copies, disks with NTFS and FAT, an encrypted volume of a stick. And file systems of
# other manufacturers.
take dfvfs 20240505 b1de52e61a447e53c89f141eec82fbd4af75405957231ab33f3847c5d70d0f0b "trixie" \
    dfvfs-20240505/test_data/{vss.raw,hfsplus.raw,apfs.raw,ntfs-fixed.vhd,ntfs-dynamic.vhd,ntfs-dynamic.vhdx} \
    dfvfs-20240505/test_data/{ntfs-parent.vhd,ntfs-parent.vhdx,fat-parent.vhd,fat-parent.vhdx,windows_volume.qcow2,bdetogo.raw}

# The registry of an installed Windows 8.1.
take dfwinreg 20240316 a1520784721b1fe55dc788d219bd720f5b39698872889d3a9b60d491d4b68162 "trixie" \
    dfwinreg-20240316/test_data/{NTUSER.DAT,SAM,SECURITY,SYSTEM,UsrClass.dat}

# Encrypted volumes of Windows 7 to 11.
take cryptsetup 2.6.1 b8adeb071bb396a1a8515f1d54b4cc8901a536d0da3f5970971beb2ec8427c17 "bookworm" \
    cryptsetup-2.6.1/tests/bitlk-images.tar.xz

# Windows' NTFS volumes, one of them taken while it was in use; the registry of a Windows 10; encrypted volumes in each state.
take_python dissect.ntfs 3.16 ce93136796aa9471f3aa28855b4b3c3e8132f9f97bc17a2f5494e0a660c190dd dissect_ntfs-3.16/tests/_data/{ntfs.bin.gz,ntfs-cloud.bin.gz}
take_python dissect.regf 3.14 0df90d4e68453dae1e75a50bd343d84ffc413f4e65d527c05f657b7ea9f30f33 dissect_regf-3.14/tests/_data/SYSTEM.gz
take_python dissect.fve 4.6 49141e62cd3cc735c324f3c76c8635b3fbd0613316b2f823ee78a481c7c543fe dissect_fve-4.6/tests/_data/bde/{aes-xts_128,aes-xts_256,aes_128,aes_128_diffuser,aes_256,aes_256_diffuser}.bin.gz \
    dissect_fve-4.6/tests/_data/bde/{decrypted,eow_partial,recovery_key,recovery_password,startup_key,suspended,vista,win7_partial}.bin.gz \
    dissect_fve-4.6/tests/_data/bde/{recovery_key,startup_key}.bek
