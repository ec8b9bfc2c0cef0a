#!/bin/sh
# Runs the demo on 127.0.0.1:8700 and the console, from its sources, on 127.0.0.1:5173.
# The service is built and started anew when a Go file changes; the page shows what
# changes in the console by itself. What is in it stays in .dev/ until that is removed.
set -eu
mkdir -p .dev
demo=
stop() {
  kill "$console" $demo 2>/dev/null || true
  wait
}
(cd console && exec node_modules/.bin/vite --host 127.0.0.1 --port 5173 --strictPort) &
console=$!
trap stop EXIT
trap 'exit 0' INT TERM
touch -t 200001010000 .dev/built
while :; do
  if [ -n "$(find cmd internal console/console.go go.mod -newer .dev/built -print -quit)" ]; then
    touch .dev/built
    if go build -o .dev/crelvo ./cmd/crelvo; then
      if [ -n "$demo" ]; then
        kill "$demo" 2>/dev/null || true
        wait "$demo" || true
      fi
      .dev/crelvo demo --data .dev/data &
      demo=$!
    fi
  fi
  sleep 1
done
