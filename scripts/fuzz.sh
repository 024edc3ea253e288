#!/bin/sh
# Runs every fuzz target for $FUZZTIME.
set -eu
for file in $(grep -rl --include='*_test.go' '^func Fuzz' .); do
	for target in $(sed -n 's/^func \(Fuzz[A-Za-z0-9_]*\).*/\1/p' "$file"); do
		go test -run '^$' -fuzz "^$target\$" -fuzztime "${FUZZTIME:-20s}" "./$(dirname "$file")"
	done
done
