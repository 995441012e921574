#!/bin/bash
# The whole job in a virtual PC: the rescue stick, real firmware, real buses, faults, others that use a partition, a stick that is
# pulled, four power cuts. This is what the tests run. "pc-test.sh long" pulls the disk and makes a hundred power cuts,
# "pc-test.sh cuts N [KIND]" as many as wanted (KIND: NTFS); "starts", "buses", "large", "faults", "users" and "pulled" are parts of it alone.
# Needs root (it mounts the disks to look at their files), and what tools/install-test-tools.sh installs.
set -euo pipefail
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
# The stick is made from packages as the archive has them now.
apt-get update -q >/dev/null
if [ -z "${PC_DISKS:-}" ]; then
    cargo build --quiet --locked -p schwelle-demo --example pc_disks
    export PC_DISKS=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/debug/examples/pc_disks
fi
exec /usr/bin/python3 tools/pc_test.py "$@"
