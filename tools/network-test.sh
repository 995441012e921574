#!/bin/bash
# The rescue stick without the stick: kernel and RAM disk come over the network into a virtual PC, with the steps of a job and an SSH
# server that accepts one key. From BIOS, and from UEFI with Secure Boot on.
# Needs what tools/install-test-tools.sh installs.
set -euo pipefail
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
apt-get update -q >/dev/null
if [ -z "${SCHWELLE:-}" ]; then
    tools/release.sh >/dev/null
    export SCHWELLE=${CARGO_TARGET_DIR:-$PWD/target}/$(uname -m)-unknown-linux-gnu/dist/schwelle
fi
exec /usr/bin/python3 tools/network_test.py
