#!/bin/bash
# package-test.sh PROGRAM: packages a statically linked program (package.sh), and has the packages judged by Debian's checker, and by a
# fresh Debian in which the package is installed, does the demo's whole job, and is purged without a trace. The archive is unpacked and
# run. As root; needs lintian, debootstrap and a network.
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
# It was not built from a source package, so nothing asked for it to be packaged. The tests' program can be loaded anywhere, which
# makes it look like a library.
lintian --allow-root --fail-on error,warning --suppress-tags initial-upload-closes-no-bugs,shared-library-lacks-prerequisites "$package"

debootstrap --variant=minbase bookworm "$scratch/root" >"$scratch/log" || { cat "$scratch/log" >&2; exit 1; }
inside() { chroot "$scratch/root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin "$@"; }
# What is there, but for what the package manager writes about itself.
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
