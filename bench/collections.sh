#!/bin/sh
# Fetch public manuals from Debian's packages into var/collections/<name>: what benchmarks and tuning read. Nothing is installed.
# Usage: bench/collections.sh [name ...]   (all of them when none is named)
set -eu
root=$(cd "$(dirname "$0")/.." && pwd)/var/collections
scratch=$(mktemp -d)
trap 'rm -rf "$scratch"' EXIT
chmod 755 "$scratch"

# fetch <name> <package> <path in the package> [pattern]: the files below the path that match the pattern
fetch() {
    name=$1 package=$2 path=$3 pattern=${4:-*}
    case " $wanted " in *" $name "*) ;; *) return 0 ;; esac
    if [ -d "$root/$name" ]; then echo "$name is there"; return 0; fi
    if [ ! -d "$scratch/$package" ]; then
        (cd "$scratch" && apt-get download -q "$package" >&2)
        dpkg-deb -x "$scratch/$package"_*.deb "$scratch/$package"
    fi
    mkdir -p "$root/$name.part"
    (cd "$scratch/$package/$path" && find . -type f -name "$pattern" -exec cp --parents {} "$root/$name.part" \;)
    find "$root/$name.part" -name '*.gz' -exec gunzip {} +
    mv "$root/$name.part" "$root/$name"
    echo "$name: $(find "$root/$name" -type f | wc -l) files"
}

all="postgresql-manual git-manual developers-reference debian-reference apt bash python \
 debian-reference-pdf bash-pdf policy policy-pdf policy-epub faq faq-pdf developers-reference-pdf developers-reference-epub debian-manuals"
wanted=${*:-$all}
fetch postgresql-manual postgresql-doc-15 usr/share/doc/postgresql-doc-15/html '*.html'
fetch git-manual git-doc usr/share/doc/git/html '*.html'
fetch developers-reference developers-reference usr/share/developers-reference '*.html'
fetch developers-reference-pdf developers-reference usr/share/developers-reference '*.pdf'
fetch developers-reference-epub developers-reference usr/share/developers-reference '*.epub'
fetch debian-reference debian-reference-en usr/share/debian-reference '*.html'
fetch debian-reference-pdf debian-reference-en usr/share/debian-reference '*.pdf'
fetch apt apt-doc usr/share/doc/apt-doc '*.html'
fetch bash bash-doc usr/share/doc/bash '*.html'
fetch bash-pdf bash-doc usr/share/doc/bash '*.pdf'
fetch python python3.11-doc usr/share/doc/python3.11/html '*.html'
fetch policy debian-policy usr/share/doc/debian-policy '*.html'
fetch policy-pdf debian-policy usr/share/doc/debian-policy '*.pdf*'
fetch policy-epub debian-policy usr/share/doc/debian-policy '*.epub'
fetch faq debian-faq usr/share/doc/debian/FAQ '*.html'
fetch faq-pdf debian-faq usr/share/doc/debian/FAQ '*.en.pdf*'

# One collection of the English manuals, for the questions in bench/questions/debian-manuals-*.jsonl
case " $wanted " in *" debian-manuals "*)
    if [ ! -d "$root/debian-manuals" ]; then
        part=$root/debian-manuals.part
        mkdir -p "$part/bash" "$part/debian-reference" "$part/apt" "$part/python"
        cp "$root/bash/bashref.html" "$part/bash"
        cp "$root"/debian-reference/*.en.html "$part/debian-reference"
        cp -r "$root/apt/guide.html" "$root/apt/offline.html" "$part/apt"
        for folder in library tutorial howto faq; do cp -r "$root/python/$folder" "$part/python"; done
        mv "$part" "$root/debian-manuals"
    fi
    echo "debian-manuals: $(find "$root/debian-manuals" -type f | wc -l) files" ;;
esac
