#!/bin/sh
# Makes a signed APK of 320 MB for measuring: plain.apk with native code that is stored, code that is packed, and pictures.
# SCHEME1=false leaves scheme 1 away, which a package for Android 7 and later does not need. Needs zip, apksigner, zipalign
# and keytool.
set -eu
out=$(realpath -m "${1:?name the file to write}")
cd "$(dirname "$0")"
here=$PWD
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cp plain.apk "$work/app.apk"
cd "$work"
mkdir -p lib/arm64-v8a res/pictures
for i in 1 2 3 4; do head -c 40000000 /dev/urandom > lib/arm64-v8a/lib$i.so; done
for i in 1 2 3 4 5 6; do (head -c 10000000 /dev/urandom; head -c 6000000 /dev/zero) > classes$i.dex; done
i=0
while [ $i -lt 6000 ]; do
    head -c 16000 /dev/urandom > res/pictures/$i.png
    i=$((i + 1))
done
zip -q -0 -r app.apk lib res
zip -q app.apk classes*.dex
zipalign -f 4 app.apk aligned.apk
keytool -genkeypair -keystore key.p12 -storetype PKCS12 -storepass secret-enough -alias one -dname "CN=Larkfield" -keyalg RSA -keysize 2048 -validity 20000 2> /dev/null
apksigner sign --out "$out" --ks key.p12 --ks-pass pass:secret-enough --v1-signing-enabled "${SCHEME1:-true}" --v4-signing-enabled false --min-sdk-version 21 aligned.apk
ls -l "$out"
cd "$here"
