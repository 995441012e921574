#!/bin/bash
# Fetches files that real systems wrote, for the tests: from Debian's source packages, by their checksums, into the target folder.
# Does nothing if they are there. No source entries are added to the machine.
set -euo pipefail
cd "$(dirname "$0")/.."
to=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/real-data
mkdir -p "$to"

# Name, version and SHA-256 of a package's original archive, the files that are taken from it, and the releases that have it.
take() {
    local name=$1 version=$2 sum=$3 releases=$4 files=${*:5} file missing=
    for file in $files; do [ -f "$to/$(basename "$file")" ] || missing=1; done
    [ -n "$missing" ] || return 0
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
    if ! echo "$sum  $work/$archive" | sha256sum --check --quiet; then
        cat "$work/log" >&2
        exit 1
    fi
    for file in $files; do
        tar -xzf "$work/$archive" -C "$work" "$file"
        mv "$work/$file" "$to/"
    done
    rm -rf "$work"
}

# A volume of Windows 10 with two shadow copies, and file systems of other makers.
take dfvfs 20240505 b1de52e61a447e53c89f141eec82fbd4af75405957231ab33f3847c5d70d0f0b "trixie" \
    dfvfs-20240505/test_data/{vss.raw,hfsplus.raw,apfs.raw}
