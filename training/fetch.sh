#!/bin/sh
# Fetch the documentation packages that training reads into var/training/packages/<package>.
# Nothing is installed. Packages that are there already are kept.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
root=$(dirname "$here")/var/training/packages
mkdir -p "$root"
scratch=$(mktemp -d)
trap 'rm -rf "$scratch"' EXIT
chmod 755 "$scratch"
for package in $(cut -f1 "$here/files.tsv" | sort -u); do
    [ -d "$root/$package" ] && continue
    (cd "$scratch" && apt-get download -q "$package" >&2)
    rm -rf "$root/$package.part"
    dpkg-deb -x "$scratch/$package"_*.deb "$root/$package.part"
    rm "$scratch/$package"_*.deb
    mv "$root/$package.part" "$root/$package"
    echo "$package"
done
