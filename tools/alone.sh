#!/bin/bash
# alone.sh PROGRAM: a program for a rescue stick needs nothing at run time but a kernel: no library, no interpreter, no data
# file. It does the whole job of the demo where there is nothing else.
set -euo pipefail
[ $# = 1 ] || { echo "usage: $0 PROGRAM" >&2; exit 2; }
# "interpreter" would be the loader of shared libraries.
if readelf --program-headers --dynamic "$1" | grep -E 'INTERP|NEEDED'; then
    echo "$1 needs something at run time" >&2
    exit 1
fi
empty=$(mktemp -d)
trap 'rm -rf "$empty"' EXIT
cp "$1" "$empty/schwelle"
unshare --map-root-user chroot "$empty" /schwelle demo /demo --quiet
echo "$1: $(stat -c %s "$1") bytes, statically linked, does the demo's whole job alone"
