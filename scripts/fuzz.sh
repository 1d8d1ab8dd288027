#!/usr/bin/env bash
# Runs every fuzz target for the given time.
set -euo pipefail
cd "$(dirname "$0")/.."
grep -rho --include='*_test.go' 'func Fuzz[A-Za-z]*' core netconf wire service | sort -u | sed 's/func //' | while read -r target; do
  dir=$(dirname "$(grep -rl --include='*_test.go' "func $target(" core netconf wire service | head -1)")
  echo "== $target in $dir"
  go test -run '^$' -fuzz "^$target\$" -fuzztime "$1" "./$dir"
done
