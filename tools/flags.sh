# Read by others: what it takes that a program is the same wherever it is built.

# The compiler's flags for one that is linked statically: no path of this machine is in it. No folder's name may hold a blank.
# flags SOURCE TARGET: for the source in one folder, built into another.
flags() {
    # Of several that fit, the last one counts.
    echo "-C target-feature=+crt-static --remap-path-prefix=$1=/schwelle" \
        "--remap-path-prefix=${CARGO_HOME:-$HOME/.cargo}=/cargo --remap-path-prefix=$2=/target"
}

# elsewhere FOLDER: the source as git knows it and as it is here, in a new folder; with other times, and from now on another umask and
# another time zone.
elsewhere() {
    mkdir -p "$1"
    git ls-files -z | tar --create --null --files-from=- | tar --extract --directory="$1"
    find "$1" -exec touch -d 2001-01-01 {} +
    umask 077
    export TZ=Pacific/Chatham
}
