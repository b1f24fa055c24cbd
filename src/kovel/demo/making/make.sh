#!/bin/sh
# Makes the demo footage anew: make.sh OUTDIR (needs requirements.txt, misaki==0.9.4 --no-deps, ffmpeg; about an hour).
set -e
out=$1; mkdir -p "$out/sound"; cd "$(dirname "$0")"
python speech.py "$out/sound"
for take in "maren A" "maren B" "tobin A" "odile A"; do set -- $take; python film.py talk "$1" "$2" "$out/sound" "$out"; done
for s in "wheel 12" "creek 14" "crates 11" "rope 9" "bell 11.5" "gulls 10" "bench 11" "feet 10.5" "marks 8"; do set -- $s; python film.py shot "$1" "$2" "$out"; done
python music.py "$out"; python still.py "$out"
