#!/bin/sh
# Makes the packages of the tests anew from source/, with the platform's own build tools (aapt, aapt2, apksigner, zipalign,
# keytool, jarsigner). FRAMEWORK names the platform's resources, framework-res.apk or android.jar. The packages are kept, so
# that the tests need none of these tools.
set -eu
cd "$(dirname "$0")"
: "${FRAMEWORK:?name framework-res.apk or android.jar}"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
for key in one two ec; do
    kind="-keyalg RSA -keysize 2048"
    [ $key = ec ] && kind="-keyalg EC -groupname secp256r1"
    keytool -genkeypair -keystore "$work/$key.p12" -storetype PKCS12 -storepass secret-enough -alias $key -dname "CN=Larkfield $key" $kind -validity 20000 2>/dev/null
done
aapt2 compile --dir source/res -o "$work/res.zip"
aapt2 link -I "$FRAMEWORK" --manifest source/AndroidManifest.xml -A source/assets -o "$work/plain.apk" "$work/res.zip"
sed 's/minSdkVersion="23"/minSdkVersion="26"/' source/AndroidManifest.xml > "$work/later.xml"
aapt2 link --enable-sparse-encoding -I "$FRAMEWORK" --manifest "$work/later.xml" -A source/assets -o sparse.apk "$work/res.zip"
aapt2 link --proto-format -I "$FRAMEWORK" --manifest source/AndroidManifest.xml -A source/assets -o "$work/proto.apk" "$work/res.zip"
aapt package -f -M source/AndroidManifest.xml -S source/res -A source/assets -I "$FRAMEWORK" -F old.apk
zipalign -f 4 "$work/plain.apk" plain.apk
pass="--ks-pass pass:secret-enough"
one="--ks $work/one.p12 $pass"
apksigner sign --out v1.apk $one --v1-signing-enabled true --v2-signing-enabled false --v3-signing-enabled false --min-sdk-version 21 plain.apk
apksigner sign --out v12.apk $one --v1-signing-enabled true --v2-signing-enabled true --v3-signing-enabled false --min-sdk-version 21 plain.apk
apksigner sign --out v123.apk $one --v1-signing-enabled true --v2-signing-enabled true --v3-signing-enabled true --min-sdk-version 21 plain.apk
apksigner sign --out tree.apk $one --verity-enabled true --v2-signing-enabled true --min-sdk-version 28 plain.apk
apksigner rotate --out "$work/line" --old-signer $one --new-signer --ks "$work/two.p12" $pass
apksigner sign --out rotated.apk $one --next-signer --ks "$work/two.p12" $pass --lineage "$work/line" --v1-signing-enabled true plain.apk
apksigner sign --out two.apk $one --next-signer --ks "$work/ec.p12" $pass --v3-signing-enabled false --v1-signing-enabled true --min-sdk-version 21 plain.apk
keytool -genkeypair -keystore "$work/debug.p12" -storetype PKCS12 -storepass secret-enough -alias debug -dname "CN=Android Debug, O=Android, C=US" -keyalg RSA -keysize 2048 -validity 20000 2>/dev/null
apksigner sign --out debug.apk --ks "$work/debug.p12" $pass --v1-signing-enabled false --v3-signing-enabled false --min-sdk-version 24 plain.apk
mkdir -p "$work/aab/base/manifest"
(cd "$work/aab" && unzip -q ../proto.apk && mv AndroidManifest.xml base/manifest/ && mv resources.pb res assets base/ && printf '\n\010\n\0061.15.6' > BundleConfig.pb && rm -f ../app.aab && zip -qr ../app.aab .)
jarsigner -keystore "$work/one.p12" -storepass secret-enough "$work/app.aab" one > /dev/null
cp "$work/app.aab" app.aab
rm -f ./*.idsig
for f in v1 v12 v123 tree rotated two; do
    echo "$f: $(apksigner verify --print-certs --min-sdk-version 21 $f.apk | sed -n 's/.*certificate SHA-256 digest: //p' | tr '\n' ' ')"
done > certificates.txt

# app.ipa: the folder apple/ with two executables, SIGNED_APP (universal) and SIGNED_EXTENSION, which a code signer made, a
# profile that was signed with AUTHORITY (.pem, .key), and the certificate DISTRIBUTION (.pem) in it.
if [ -n "${SIGNED_APP:-}" ]; then
    mkdir -p "$work/ipa/Payload"
    cp -r apple/Hivelog.app "$work/ipa/Payload/"
    app=$work/ipa/Payload/Hivelog.app
    cp "$SIGNED_APP" "$app/Hivelog"
    cp "$SIGNED_EXTENSION" "$app/PlugIns/Share.appex/Share"
    plistutil -i apple/Hivelog.app/Info.plist -f bin -o "$app/Info.plist"
    sed "s|CERTIFICATE|$(openssl x509 -in "$DISTRIBUTION" -outform DER | base64 -w0)|" apple/profile.plist > "$work/profile.plist"
    openssl cms -sign -nodetach -binary -md sha256 -signer "$AUTHORITY.pem" -inkey "$AUTHORITY.key" -outform DER -in "$work/profile.plist" -out "$app/embedded.mobileprovision"
    rm -f app.ipa
    (cd "$work/ipa" && zip -qr -9 app.ipa Payload)
    cp "$work/ipa/app.ipa" app.ipa
fi
