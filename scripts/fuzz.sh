#!/usr/bin/env bash
# Runs every fuzz target for the given time, and tells how often each was run in a second.
# Minimising what is merely new is bounded: it took nearly all the time of targets
# with long inputs. Of a target under 10,000 in a second it is told why, by its comment,
# and what an empty one of the same package comes to: the engine's own work grows with
# all that a package imports.
set -uo pipefail
cd "$(dirname "$0")/.."
failed=0
out=$(mktemp) empty=""
trap 'rm -f "$out" "$empty"' EXIT
# rate TARGET PACKAGE TIME: runs a target, and gives its executions in a second. At the
# end of its time the engine sometimes fails without an input that does: it runs again.
rate() {
  for try in 1 2 3; do
    if go test -run '^$' -fuzz "^$1\$" -fuzztime "$3" -fuzzminimizetime 5x "./$2" >"$out" 2>&1; then
      awk '/execs: / { s = $3 + 0; if ($3 ~ /m/) { split($3, m, "m"); s = m[1] * 60 + m[2] } n = $5 + 0; if (!s0) { s0 = s; n0 = n } } END { print int(s > s0 ? (n - n0) / (s - s0) : n / (s ? s : 1)) }' "$out"
      return
    fi
    grep -q "context deadline exceeded" "$out" && ! grep -q "Failing input" "$out" || return 1
  done
  return 1
}
for dir in ${ONLY:-$(grep -rl --include='*_test.go' '^func Fuzz' core netconf wire service cli | xargs -n1 dirname | sort -u)}; do
  for target in $(grep -ho '^func Fuzz[A-Za-z0-9_]*' "$dir"/*_test.go | sed 's/func //' | sort -u); do
    if ! n=$(rate "$target" "$dir" "$1"); then
      echo "FAIL $target in $dir"
      cat "$out"
      failed=1
      continue
    fi
    beside=""
    if [ "$n" -lt 10000 ]; then
      empty="$dir/zz_empty_test.go"
      printf 'package %s\n\nimport "testing"\n\nfunc FuzzEmpty(f *testing.F) { f.Add("x"); f.Fuzz(func(*testing.T, string) {}) }\n' "$(go list -f '{{.Name}}' "./$dir")" >"$empty"
      why=$(grep -h -B3 "^func $target(" "$dir"/*_test.go | sed -n 's|^// Under 10,000 in a second: ||p')
      beside="; an empty target there: $(rate FuzzEmpty "$dir" 7s)${why:+; $why}"
      rm -f "$empty"
    fi
    printf '%-24s %-16s %7d in a second%s\n' "$target" "$dir" "$n" "$beside"
  done
done
exit $failed
