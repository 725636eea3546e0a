#!/bin/sh
# Starts a platform with the demo in a folder of its own, and lets a tester of OpenAPI from the Python package index make
# requests from the platform's document for as many seconds as are asked for. Fails where an answer is not as documented.
set -eu
mainyard=$(realpath "$1")
seconds=$2
here=$(realpath "$(dirname "$0")")
work=$(mktemp -d)
chmod 755 "$work"
tools=${MAINYARD_TOOLS:-target/openapi-tester}
export MAINYARD_DATA="$work/data"
api=127.0.0.1:8790
finish() {
    "$mainyard" stop || true
    rm -rf "$work"
}
trap finish EXIT INT TERM
[ -x "$tools/bin/schemathesis" ] || { python3 -m venv "$tools" && "$tools/bin/pip" install --quiet "schemathesis>=4.32,<5"; }
tester=$(realpath "$tools/bin/schemathesis")
"$mainyard" start --demo --background --api "$api" --http 127.0.0.1:8791 --https 127.0.0.1:8792 > "$work/start.log"
cd "$work"
"$tester" --config-file "$here/openapi-tester.toml" run "http://$api/api/v1/openapi.json" \
    --header "Authorization: Bearer $(cat "$MAINYARD_DATA/client-token")" \
    --checks all --continue-on-failure --request-timeout 10 --max-time "$seconds" --no-color
