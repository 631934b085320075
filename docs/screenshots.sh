#!/usr/bin/env bash
# Makes the pictures of docs/screenshots from the current build and the demo's data, and notes the digests of outputs in
# docs/screenshots.txt. Names of pictures as arguments make only these.
# Needs Debian's packages xvfb, xterm, imagemagick, chromium, curl and fonts-dejavu-core; ports 8080, 9101 to 9122 and 9900.
set -euo pipefail
cd "$(dirname "$0")/.."
root=$PWD
work=$(mktemp -d)
pids=()
stop() { for p in "${pids[@]}"; do kill "$p" 2>/dev/null || true; done; pids=(); }
trap 'stop; rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -trimpath -o "$work/bin/kestrix" ./cmd/kestrix
export PATH="$work/bin:$PATH" LC_ALL=C.UTF-8
kestrix demo -live=false -no-pause -dir "$work/tour" >/dev/null
cd "$work/tour"

# crop takes the empty margins of a picture away and puts a small one around it.
crop() { convert "$1" -trim -bordercolor '#fbfaf6' -border 18 "$2"; }

# terminal NAME WIDTH HEIGHT SECONDS COMMANDS: a picture of a terminal after so long.
terminal() {
  local d=":$((20 + RANDOM % 900))" name=$1 w=$2 h=$3 t=$4
  printf '%s\nsleep 60\n' "$5" >"$work/$name.sh"
  Xvfb "$d" -screen 0 "${w}x${h}x24" >/dev/null 2>&1 & local x=$!
  sleep 0.7
  DISPLAY=$d xterm -u8 -b 8 -bw 0 -bg '#fbfaf6' -fg '#1d2a35' -cr '#fbfaf6' -fa 'DejaVu Sans Mono' -fs 10 -geometry "$(((w - 16) / 8))x$(((h - 16) / 17))+0+0" \
    -xrm 'xterm*scrollBar: false' -xrm 'xterm*color1: #b3261e' -e bash "$work/$name.sh" >/dev/null 2>&1 & local k=$!
  sleep "$t"
  DISPLAY=$d import -window root "$work/$name.png"
  kill "$k" "$x" 2>/dev/null || true
  wait "$k" "$x" 2>/dev/null || true
  crop "$work/$name.png" "$root/docs/screenshots/$name.png"
}

# browser NAME WIDTH HEIGHT FILE [FLAGS]: a picture of a page.
browser() {
  local name=$1 w=$2 h=$3 file=$4
  shift 4
  timeout 60 chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size="$w,$h" "$@" --screenshot="$work/$name.png" "file://$file" >/dev/null 2>&1
  convert "$work/$name.png" "$root/docs/screenshots/$name.png"
}

# live starts stand-ins and the proxy, and sends some traffic.
live() {
  kestrix standin harbour.hcl -ready ready >/dev/null 2>&1 & pids+=($!)
  until [ -e ready ]; do sleep 0.1; done
  kestrix serve harbour.hcl >access.log 2>events.log & pids+=($!)
  until curl -s http://127.0.0.1:8080/seats >/dev/null; do sleep 0.2; done
  kestrix drive morning.log http://127.0.0.1:8080 -speed 12 -until 5m >/dev/null 2>&1 & pids+=($!)
  sleep 12
  kestrix standin -tell auk refuse >/dev/null
  sleep 4
  kestrix tell harbour.hcl petrel weight=3 -because 'a larger machine' >/dev/null
}

# fails has requests fail, once.
fails() {
  [ -n "$failed" ] && return
  failed=yes
  kestrix standin -tell 'sailings.*' errors >/dev/null
  sleep 1
  kestrix standin -tell 'sailings.*' fixed >/dev/null
}

# control NAME WIDTH HEIGHT PAGE: a page of control, as it is before its script runs.
control() {
  fails
  mkdir -p "$work/ctl"
  curl -s "http://127.0.0.1:9900/$4" | sed -E 's/<html lang="en">/<html lang="en" class="js">/; s/<script[^>]*><\/script>//' >"$work/ctl/index.html"
  for f in page.css icon.svg; do curl -s "http://127.0.0.1:9900/$f" >"$work/ctl/$f"; done
  browser "$1" "$2" "$3" "$work/ctl/index.html"
}

running=""
failed=""
while read -r name kind w h digest args; do
  case "$name" in '' | '#'*) continue ;; esac
  if [ $# -gt 0 ] && ! [[ " $* " == *" $name "* ]]; then continue; fi
  echo "$name"
  case "$kind" in
  terminal)
    seconds=6
    case "$name" in rehearse) seconds=45 ;; demo) seconds=12 ;; compare) seconds=9 ;; esac
    part=""
    if [ "$name" = demo ]; then part=" | head -n $((h / 17 - 3))"; fi
    terminal "$name" "$w" "$h" "$seconds" "echo '\$ kestrix $args'; kestrix $args 2>/dev/null$part" ;;
  page) kestrix $args >/dev/null || true; browser "$name" "$w" "$h" "$PWD/out.html" ;;
  rehearsal) kestrix $args >/dev/null 2>&1 || true; browser "$name" "$w" "$h" "$PWD/out.html" ;;
  figure)
    if [ "$name" = map ]; then kestrix $args -o out.svg; else kestrix $args >/dev/null; fi
    browser "$name" "$w" "$h" "$PWD/out.svg"
    crop "$root/docs/screenshots/$name.png" "$root/docs/screenshots/$name.png" ;;
  live | control)
    if [ -z "$running" ]; then live; running=yes; fi
    case "$name" in
    serve) terminal serve "$w" "$h" 3 "echo '\$ kestrix serve harbour.hcl'; head -n 22 events.log; tail -n 5 access.log" ;;
    status) terminal status "$w" "$h" 4 "echo '\$ kestrix status harbour.hcl'; kestrix status harbour.hcl; echo; echo '\$ kestrix tell harbour.hcl booking.gannet drain -for 10m'; kestrix tell harbour.hcl booking.gannet drain -for 10m -yes; kestrix tell harbour.hcl booking.gannet return >/dev/null" ;;
    watch) terminal watch "$w" "$h" 6 "kestrix watch harbour.hcl" ;;
    control) control control "$w" "$h" "" ;;
    requests) control requests "$w" "$h" "requests.html?kind=failed&cause=status_5xx" ;;
    esac ;;
  esac
done <"$root/docs/screenshots.txt"
stop
cd "$root"
KESTRIX_UPDATE=1 go test ./internal/cli -run TestPicturesShowTheCurrentOutput -count=1 >/dev/null
ls docs/screenshots
