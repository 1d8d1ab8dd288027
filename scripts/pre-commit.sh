#!/usr/bin/env bash
# Looks at what is staged: formatting, vet, types, lint. Quick enough for every commit.
set -euo pipefail
cd "$(git rev-parse --show-toplevel)"
mapfile -t files < <(git diff --cached --name-only --diff-filter=ACMR)
go_files=() packages=() console=0
for f in "${files[@]}"; do
  case "$f" in
    console/*.go | *.go) go_files+=("$f"); packages+=("./$(dirname "$f")") ;;
    console/*) console=1 ;;
  esac
done
if [ ${#go_files[@]} -gt 0 ]; then
  unformatted=$(gofmt -l "${go_files[@]}")
  [ -z "$unformatted" ] || { echo "not gofmt'ed: $unformatted"; exit 1; }
  mapfile -t packages < <(printf '%s\n' "${packages[@]}" | sort -u | grep -v '^./packaging')
  [ ${#packages[@]} -eq 0 ] || go vet "${packages[@]}"
fi
if [ "$console" = 1 ]; then
  make --no-print-directory console/src/generated/api.d.ts
  (cd console && npm run --silent check && npm run --silent lint)
fi
