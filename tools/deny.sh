#!/bin/bash
# deny.sh: licences, sources and versions of all dependencies must be those that deny.toml allows. Builds cargo-deny into the target folder
# if it is not installed. The list of known vulnerabilities needs a network, and is looked at before a release (CONTRIBUTING.md).
set -euo pipefail
cd "$(dirname "$0")/.."
tools=${CARGO_TARGET_DIR:-$PWD/target}/tools
export PATH=$tools/bin:$PATH
if ! command -v cargo-deny >/dev/null; then
    # With the flags of another program it would be no program for this machine.
    env -u RUSTFLAGS -u CARGO_BUILD_TARGET CARGO_PROFILE_DEV_DEBUG=none \
        cargo install --debug --quiet --locked --no-default-features --root "$tools" cargo-deny@0.20.2
fi
cargo fetch --locked --quiet
cargo deny --offline --locked check bans licenses sources
