#!/bin/bash
# A whole Linux, installed by its own tools, from BIOS to UEFI and back: it starts to its login prompt before, converted (with Secure
# Boot on, by its own signed loaders), and taken back; alone on its disk, and beside the stand-ins of a Windows. "linux-test.sh
# PICTURE.png" keeps a picture of the prompt. Needs root, and what tools/install-test-tools.sh installs.
set -euo pipefail
cd "$(dirname "$0")/.."
tools/install-test-tools.sh
apt-get update -q >/dev/null
if [ -z "${BESIDE_LINUX:-}" ]; then
    cargo build --quiet --locked -p schwelle-demo --example beside_linux
    export BESIDE_LINUX=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/debug/examples/beside_linux
fi
if [ -z "${SCHWELLE:-}" ]; then
    cargo build --quiet --locked -p schwelle
    export SCHWELLE=${CARGO_TARGET_DIR:-$PWD/target}/${CARGO_BUILD_TARGET:-}/debug/schwelle
fi
exec /usr/bin/python3 tools/linux_test.py "$@"
