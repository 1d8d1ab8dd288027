#!/usr/bin/env bash
# Measures the core against yardsticks taken in the same run: make bench.
set -euo pipefail
cd "$(dirname "$0")/.."
. scripts/need.sh
need gcc=gcc git=git diff=diffutils z3=z3 yanglint=libyang2-tools /usr/share/yuma/modules=libyuma-base
exec "${GO:-go}" run ./test/bench
