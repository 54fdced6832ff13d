#!/bin/sh
# No line of Go, TypeScript or Vue is wider than 120 columns; what is generated does not count.
set -eu
cd "$(dirname "$0")/.."
git ls-files '*.go' '*.ts' '*.vue' | grep -Ev '(\.gen\.|\.d\.ts)' | tr '\n' '\0' | xargs -0 awk '
	length($0) > 120 { printf "%s:%d: the line is %d columns wide; at most 120\n", FILENAME, FNR, length($0); wide = 1 }
	END { exit wide }'
