#!/bin/bash
# package-test.sh PROGRAM: packages a statically linked program (package.sh) and tests the packages. lintian checks the Debian package; in
# a fresh Debian it is installed, runs the demo, and is purged, and no file remains. The archive is unpacked, and its program runs the
# demo. Must run as root; needs lintian, debootstrap and a network.
set -euo pipefail
[ $# = 1 ] || { echo "usage: $0 PROGRAM" >&2; exit 2; }
here=$(dirname "$(realpath "$0")")
scratch=$(mktemp -d)
trap 'rm -rf "$scratch"' EXIT
mkdir "$scratch/out" "$scratch/again" "$scratch/root"
strip -o "$scratch/schwelle" "$1"
"$here/package.sh" "$scratch/schwelle" "$scratch/out"
"$here/package.sh" "$scratch/schwelle" "$scratch/again" >/dev/null
diff -r "$scratch/out" "$scratch/again"
package=$(echo "$scratch"/out/*.deb)
# There is no Debian bug that asks for this package. The tests' program is position-independent, so lintian takes it for a library.
lintian --allow-root --fail-on error,warning --suppress-tags initial-upload-closes-no-bugs,shared-library-lacks-prerequisites "$package"

debootstrap --variant=minbase bookworm "$scratch/root" >"$scratch/log" || { cat "$scratch/log" >&2; exit 1; }
inside() { chroot "$scratch/root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin "$@"; }
# Lists all files except the package manager's own records.
files() { (cd "$scratch/root" && find . -path ./var -prune -o -path ./proc -prune -o -print | sort); }
files >"$scratch/before"
cp "$package" "$scratch/root/schwelle.deb"
inside dpkg --install /schwelle.deb >/dev/null
inside schwelle demo /demo --quiet
inside bash -c 'test -s /usr/share/man/man1/schwelle.1.gz && . /usr/share/bash-completion/completions/schwelle'
inside dpkg --purge schwelle >/dev/null
rm -r "$scratch/root/schwelle.deb" "$scratch/root/demo"
files | diff "$scratch/before" -

tar --extract --gzip --file "$scratch"/out/*.tar.gz --directory "$scratch/root"
inside sh -c 'cd /schwelle-* && ./schwelle demo /demo --quiet && test -s man/schwelle.1 && test -s completions/schwelle.zsh'
echo "$package: passes lintian, installs, runs, is purged; the archive runs"
