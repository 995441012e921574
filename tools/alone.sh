#!/bin/bash
# alone.sh PROGRAM: a program for a rescue stick needs nothing at run time but a kernel: no library, no interpreter, no data
# file, no network. It does the whole job of the demo where there is nothing else, and asks the kernel for no socket. Needs strace.
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
calls=$(mktemp)
trap 'rm -rf "$empty" "$calls"' EXIT
strace --follow-forks --trace=%network,execve --output="$calls" \
    unshare --map-root-user chroot "$empty" /schwelle demo /demo --quiet
grep -q 'execve("/schwelle"' "$calls" || { echo "its system calls were not seen" >&2; exit 1; }
if grep -v -E 'execve\(|\+\+\+ exited' "$calls"; then
    echo "$1 uses the network, or ended by a signal" >&2
    exit 1
fi
echo "$1: $(stat -c %s "$1") bytes, statically linked, does the demo's whole job alone, without a network call"
