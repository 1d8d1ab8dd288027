#!/usr/bin/env bash
# Runs every fuzz target for the given time, and tells how often each was run.
# Minimising what is merely new is bounded: it took nearly all the time of targets
# with long inputs.
set -euo pipefail
cd "$(dirname "$0")/.."
grep -rl --include='*_test.go' '^func Fuzz' core netconf wire service | xargs -n1 dirname | sort -u | while read -r dir; do
  grep -ho '^func Fuzz[A-Za-z0-9_]*' "$dir"/*_test.go | sed 's/func //' | sort -u | while read -r target; do
    echo "== $target in $dir"
    go test -run '^$' -fuzz "^$target\$" -fuzztime "$1" -fuzzminimizetime 5x "./$dir"
  done
done
