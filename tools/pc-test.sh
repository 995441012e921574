#!/bin/bash
# The whole job in a virtual PC: the rescue stick, real firmware, real buses, faults, power cuts. "pc-test.sh starts" is what
# the tests run: every bus, and every way to start. "pc-test.sh" adds faults, a stick that is pulled, and four power cuts;
# "pc-test.sh long" makes a hundred of them, "pc-test.sh cuts N" as many as wanted.
# Needs root (it mounts the disks to look at their files), and what tools/install-test-tools.sh installs.
set -euo pipefail
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
# The stick is made from packages as the archive has them now.
apt-get update -q >/dev/null
exec /usr/bin/python3 tools/pc_test.py "$@"
