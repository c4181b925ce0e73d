#!/usr/bin/env bash
# What a clean build costs, in CPU seconds by crate: benches/build.sh [CARGO ARGUMENTS], `build --release` where none are given.
# The C of a crate is counted beside its Rust. Builds into a folder of its own, which goes afterwards.
set -euo pipefail

# called by Cargo and by build scripts, as the compiler: runs it and notes what it took
if [[ -n ${BUILD_COSTS:-} ]]; then
  code=0
  "$@" || code=$?
  name=${CARGO_PKG_NAME:-}
  [[ $1 == *rustc ]] || name="$name (C)"
  if [[ -n ${CARGO_PKG_NAME:-} ]]; then
    # no pipe: a subshell would report its own times
    times >"$BUILD_COSTS.$$"
    awk -v name="$name" 'NR == 2 { gsub(/[ms]/, " "); print $1 * 60 + $2 + $3 * 60 + $4 "\t" name }' \
      "$BUILD_COSTS.$$" >>"$BUILD_COSTS"
    rm "$BUILD_COSTS.$$"
  fi
  exit "$code"
fi

self=$(realpath "$0")
cd "$(dirname "$self")/.."
[[ $# -gt 0 ]] || set -- build --release
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cargo fetch --locked --quiet
printf '#!/bin/sh\nexec "%s" cc "$@"\n' "$self" >"$work/cc"
chmod +x "$work/cc"
export BUILD_COSTS=$work/costs RUSTC_WRAPPER=$self CC=$work/cc CARGO_TARGET_DIR=$work/target
TIMEFORMAT='%U s of user, %S s of system, %R s by the clock'
time cargo "$@" --locked --quiet
awk -F'\t' '
  { all += $1; of[$2] += $1; if ($2 ~ /^ninekeys/) own += $1; if ($2 ~ / \(C\)$/) c += $1 }
  END {
    printf "%.0f CPU seconds in compilers: ours %.0f, C %.0f\n", all, own, c
    for (name in of) if (of[name] >= 2) printf "%7.1f  %s\n", of[name], name | "sort -nr"
  }' "$BUILD_COSTS"
for built in "$work"/target/*/ninekeys; do
  [[ -f $built ]] && echo "$(stat -c %s "$built") bytes ${built##"$work"/target/}"
done
echo "$(cargo tree --quiet -e normal -p ninekeys --prefix none --no-dedupe | awk '{ print $1, $2 }' | sort -u | wc -l) crates"
