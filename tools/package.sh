#!/bin/bash
# package.sh PROGRAM FOLDER: packages a statically linked program for Linux, as an archive (.tar.gz) with manual pages, completions and
# licences, and as a Debian package. Both are reproducible for one program and commit. Needs dpkg-deb and git.
set -euo pipefail
[ $# = 2 ] || { echo "usage: $0 PROGRAM FOLDER" >&2; exit 2; }
program=$(realpath "$1")
out=$(realpath "$2")
cd "$(dirname "$0")/.."
umask 022
version=$("$program" --version | cut -d' ' -f2)
machine=$(uname -m)
case $machine in
    x86_64) debian=amd64 ;;
    aarch64) debian=arm64 ;;
    *) echo "$machine: Debian's name for this machine is not known" >&2; exit 1 ;;
esac
SOURCE_DATE_EPOCH=$(git log -1 --format=%ct)
export SOURCE_DATE_EPOCH
maintainer="Schwelle <schwelle@schwelle.example>"
scratch=$(mktemp -d)
trap 'rm -rf "$scratch"' EXIT
# same_times FOLDER: sets all times in it to that of the commit.
same_times() { find "$1" -exec touch --no-dereference -d "@$SOURCE_DATE_EPOCH" {} +; }

name=schwelle-$version-$machine-linux
archive=$scratch/$name
mkdir -p "$archive/completions"
install -m 755 "$program" "$archive/schwelle"
install -m 644 README.md CHANGELOG.md LICENSE-APACHE LICENSE-MIT "$archive"
"$program" manual "$archive/man" >/dev/null
for shell in bash fish zsh; do
    "$program" completions "$shell" >"$archive/completions/schwelle.$shell"
done
same_times "$archive"
tar --create --sort=name --owner=0 --group=0 --numeric-owner --directory "$scratch" "$name" | gzip -9n >"$out/$name.tar.gz"

root=$scratch/root
share=$root/usr/share
mkdir -p "$root/DEBIAN" "$root/usr/bin" "$share"/{man/man1,doc/schwelle,lintian/overrides} \
    "$share"/{bash-completion/completions,fish/vendor_completions.d,zsh/vendor-completions}
install -m 755 "$program" "$root/usr/bin/schwelle"
install -m 644 "$archive"/man/*.1 "$share/man/man1"
install -m 644 "$archive/completions/schwelle.bash" "$share/bash-completion/completions/schwelle"
install -m 644 "$archive/completions/schwelle.fish" "$share/fish/vendor_completions.d/schwelle.fish"
install -m 644 "$archive/completions/schwelle.zsh" "$share/zsh/vendor-completions/_schwelle"
install -m 644 CHANGELOG.md "$share/doc/schwelle"
cat >"$share/doc/schwelle/changelog" <<END
schwelle ($version) unstable; urgency=medium

  * See CHANGELOG.md.gz.

 -- $maintainer  $(LC_ALL=C date --utc -R -d "@$SOURCE_DATE_EPOCH")
END
gzip -9n "$share"/man/man1/* "$share/doc/schwelle"/*
{
    cat <<END
Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/
Upstream-Name: schwelle
Source: https://schwelle.example/source

Files: *
Copyright: 2026 the authors of Schwelle
License: Expat or Apache-2.0

License: Apache-2.0
 On Debian systems its text is in /usr/share/common-licenses/Apache-2.0.

License: Expat
END
    sed -e 's/^$/./' -e 's/^/ /' LICENSE-MIT
} >"$share/doc/schwelle/copyright"
# The program must also run on a rescue stick, without shared libraries.
echo "schwelle: statically-linked-binary [usr/bin/schwelle]" >"$share/lintian/overrides/schwelle"
cat >"$root/DEBIAN/control" <<END
Package: schwelle
Version: $version
Architecture: $debian
Maintainer: $maintainer
Homepage: https://schwelle.example/source
Installed-Size: $(du --apparent-size -sk "$root/usr" | cut -f1)
Section: admin
Priority: optional
Suggests: qemu-system-x86, ovmf
Description: convert a PC's system disk from BIOS/MBR to UEFI/GPT in place
 Checks an MBR system disk against conversion rules, drafts the finished
 disk, walks the draft's boot path as the firmware would, and only then
 writes. Everything overwritten is saved first, so that a conversion that
 was interrupted can be resumed, or undone.
END
same_times "$root"
dpkg-deb --build --root-owner-group "$root" "$out/schwelle_${version}_$debian.deb" >/dev/null
echo "$out: $name.tar.gz schwelle_${version}_$debian.deb"
