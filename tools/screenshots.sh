#!/bin/bash
# Takes the README's screenshots: the built program (or the one that SCHWELLE names) on the demo disks, in a real terminal window,
# 1280x800.
# Needs: xvfb, xterm, xdotool, imagemagick, fonts-dejavu-core, qemu-system-x86, ovmf, chromium (packages of these names).
set -euo pipefail
cd "$(dirname "$0")/.."
PATH=/usr/bin:$PATH
program=${SCHWELLE:-${CARGO_TARGET_DIR:-$PWD/target}/release/schwelle}
[ -n "${SCHWELLE:-}" ] || cargo build --release --quiet --bin schwelle
shots=$PWD/docs/screenshots
work=$(mktemp -d)
mkdir -p "$shots"
export DISPLAY=:87 LC_ALL=C.UTF-8
Xvfb "$DISPLAY" -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server; rm -rf "$work"' EXIT
until xdotool getdisplaygeometry >/dev/null 2>&1; do sleep 0.2; done
cd "$work"
ln -s "$program" schwelle
PATH="$work:$PATH"
schwelle demo disks --quiet

# Columns and rows that fill the window at a font size.
declare -A grid=([8]=178x60 [9]=158x52 [10]=158x46 [11]=140x41 [13]=114x35)

# shot NAME FONT_SIZE COMMAND [KEYS...]: runs the command, types the keys, takes the picture.
shot() {
    local name=$1 size=$2 command=$3
    shift 3
    xterm -fa "DejaVu Sans Mono" -fs "$size" -geometry "${grid[$size]}+0+0" -bg "#101418" -fg "#d8dee4" -b 8 \
        -e bash -c "printf '\$ %s\n' \"$command\"; $command; sleep 60" &
    local terminal=$!
    sleep "${wait:-2}"
    for key in "$@"; do
        xdotool type --delay 30 "$key"
        xdotool key Return
        sleep 1
    done
    sleep 1
    import -window root "$work/$name.png"
    convert "$work/$name.png" -strip -define png:compression-level=9 "$shots/$name.png"
    kill $terminal
    wait $terminal 2>/dev/null || true
}

# page NAME FILE: a picture of a page.
page() {
    chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
        --user-data-dir="$work/browser" --hide-scrollbars --window-size=1600,1000 --force-device-scale-factor=0.8 \
        --screenshot="$work/page.png" "file://$work/$2" >/dev/null 2>&1
    convert "$work/page.png" -strip -define png:compression-level=9 "$shots/$1.png"
}

shot survey 11 "schwelle survey disks/*.img"
shot check-ready 13 "schwelle check disks/beacon.img"
shot check-blocked 13 "schwelle check disks/harbour.img"
shot rules 13 "schwelle rules volume.hibernation"
shot convert 9 "schwelle convert disks/beacon.img --job disks/beacon.job" yes BEACON-ROOM
shot rehearse 11 "schwelle rehearse disks/beacon.img"
shot confirm 11 "schwelle confirm disks/beacon.img"
# What a BIOS shows of the converted disk: the boot code of its sector 0, in the emulator.
{ sleep 6; echo "screendump $work/signpost.ppm"; sleep 1; echo quit; } |
    qemu-system-x86_64 -machine pc,accel=tcg -m 64 -net none -display none -monitor stdio \
        -drive file=disks/beacon.img,format=raw,snapshot=on >/dev/null
convert "$work/signpost.ppm" -strip -define png:compression-level=9 "$shots/signpost.png"
pc="--machine disks/lantern-pc.toml"
shot firmware 11 "schwelle firmware $pc"
schwelle firmware sheet disks/lantern.img $pc --html sheet.html --quiet
shot firmware-start 13 "schwelle firmware $pc set csm=off keys=factory secure-boot=on; schwelle firmware $pc start"
wait=8 shot rehearse-emulate 9 "schwelle rehearse disks/lantern.img --emulate --keep disks/lantern.job"
page sheet-page sheet.html
schwelle report --job disks/lantern.job --quiet
page report disks/lantern.job/report.html
shot undo 13 "schwelle undo --job disks/beacon.job" yes
shot plan-shrink 11 "schwelle plan disks/chartroom.img"
shot mend 9 "schwelle mend disks/newpilot.img"
shot back 11 "schwelle plan disks/breakwater.img --to mbr"
# A day's jobs: taken back, done, to be confirmed, stopped by a write error, and one whose folder is torn.
schwelle mend disks/newpilot.img --job disks/newpilot.job --yes --quiet
schwelle convert disks/breakwater.img --to mbr --job disks/breakwater.job --yes --quiet
schwelle convert disks/twolights.img --job disks/twolights.job --yes --quiet
truncate -s 512 disks/twolights.job/saved.bin
schwelle confirm disks/lantern.img $pc --job disks/lantern.job --quiet || true
(trap '' XFSZ && ulimit -f 200000 && schwelle convert disks/chartroom.img --job disks/chartroom.job --yes --quiet) || true
shot jobs 10 "schwelle report --jobs disks --html jobs.html"
page jobs-page jobs.html
ls -l "$shots"
