#!/usr/bin/env bash
# Runs every test, and prints the ten that took the longest.
#
# The test runner tells the time of each test only behind an unstable option. The runner below turns that on for the test
# programs alone: set for cargo itself it would build everything again.
set -euo pipefail
cd "$(dirname "$0")/.."

target=$(rustc -vV | sed -n 's/^host: //p' | tr 'a-z-' 'A-Z_')
export "CARGO_TARGET_${target}_RUNNER=env RUSTC_BOOTSTRAP=1"
log=$(mktemp)
trap 'rm -f "$log"' EXIT
began=$(date +%s)

failed=0
cargo test --workspace --lib --bins --tests --no-fail-fast -- -Z unstable-options --report-time 2>&1 | tee "$log" || failed=1
cargo test --workspace --doc || failed=1

echo "== the ten slowest of $(grep -c '^test .* <[0-9.]*s>$' "$log") tests, in seconds; all of them took $(($(date +%s) - began))"
sed -n 's/^test \(.*\) \.\.\. [A-Za-z]* <\([0-9.]*\)s>$/\2 \1/p' "$log" | sort -rn | awk 'NR <= 10'
exit "$failed"
