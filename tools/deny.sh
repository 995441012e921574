#!/bin/bash
# deny.sh: checks licences, sources and versions of all dependencies against deny.toml. Builds cargo-deny in the target folder if it is
# not installed. Advisories need a network; they are checked before a release (see CONTRIBUTING.md).
set -euo pipefail
cd "$(dirname "$0")/.."
tools=${CARGO_TARGET_DIR:-$PWD/target}/tools
export PATH=$tools/bin:$PATH
if ! command -v cargo-deny >/dev/null; then
    # The flags and the target in the environment are those of the program under test.
    env -u RUSTFLAGS -u CARGO_BUILD_TARGET CARGO_PROFILE_DEV_DEBUG=none \
        cargo install --debug --quiet --locked --no-default-features --root "$tools" cargo-deny@0.20.2
fi
cargo fetch --locked --quiet
cargo deny --offline --locked check bans licenses sources
