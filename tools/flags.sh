# Read by others: the compiler's flags for a program that is linked statically and is the same wherever it is built: no path of this
# machine is in it. No folder's name may hold a blank.
# flags SOURCE TARGET: for the source in one folder, built into another.
flags() {
    # Of several that fit, the last one counts.
    echo "-C target-feature=+crt-static --remap-path-prefix=$1=/schwelle" \
        "--remap-path-prefix=${CARGO_HOME:-$HOME/.cargo}=/cargo --remap-path-prefix=$2=/target"
}
