#!/bin/sh
# Writes the notices of everything that is part of the program: Go modules and the packages of the console, each with
# its licence as it came.
set -eu
cd "$(dirname "$0")/.."
out=cli/notices.txt
licence() { # folder
	found=no
	for f in "$1"/LICENSE* "$1"/LICENCE* "$1"/COPYING* "$1"/NOTICE* "$1"/license* "$1"/licence*; do
		[ -f "$f" ] || continue
		case "$f" in *.go | *.js | *.ts | *.json) continue ;; esac
		found=yes
		cat "$f"
		echo
	done
	[ $found = yes ] || echo "(it comes without a text of its licence)"
}
{
	echo "Usher Bench contains the work of others, under the licences that follow."
	go list -deps -f '{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}' ./cmd/usher |
		sort -u | while read -r path version dir; do
		printf '\n==== %s %s ====\n\n' "$path" "$version"
		licence "$dir"
	done
	(cd console && npm ls --omit=dev --all --parseable 2>/dev/null) | grep node_modules | sort -u | while read -r dir; do
		printf '\n==== %s ====\n\n' "$(node -p "const p = require('$dir/package.json'); p.name + ' ' + p.version + ', ' + (p.license || '')")"
		licence "$dir"
	done
} >"$out"
echo "$out"
