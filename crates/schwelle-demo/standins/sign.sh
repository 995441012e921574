#!/bin/sh
# Makes the demo's keys and signs the stand-in boot manager with them: a platform key, an exchange key, and the certificate
# that db holds, which has issued the signer's. The private keys are thrown away. Needs: openssl, sbsigntool. Run build.sh
# first and volumes.sh afterwards.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
assets="$here/../assets"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$assets/keys"
cd "$work"

# authority NAME SUBJECT: a key and its own certificate, which may issue others.
authority() {
    openssl req -new -x509 -newkey rsa:2048 -nodes -sha256 -days 7300 -subj "/O=Lighthouse Service/CN=$2" \
        -addext basicConstraints=critical,CA:TRUE -keyout "$1.key" -out "$1.pem" 2>/dev/null
    openssl x509 -in "$1.pem" -outform DER -out "$assets/keys/$1.der"
}

authority platform "Lighthouse Platform Key"
authority exchange "Lighthouse Exchange Key"
authority boot "Lighthouse Boot Programs 2024"
openssl req -new -newkey rsa:2048 -nodes -subj "/O=Lighthouse Service/CN=Lighthouse Boot Manager" -keyout signer.key \
    -out signer.csr 2>/dev/null
echo basicConstraints=CA:FALSE > extensions
openssl x509 -req -in signer.csr -CA boot.pem -CAkey boot.key -CAcreateserial -sha256 -days 7300 -extfile extensions \
    -out signer.pem 2>/dev/null
# Padded first, so that it lies in clusters of its own as a real one does: what is signed may not change afterwards.
cp "$assets/boot/bootmgfw.efi" padded.efi
truncate -s 38912 padded.efi
sbsign --key signer.key --cert signer.pem --addcert boot.pem --output "$assets/boot/bootmgfw-signed.efi" padded.efi
sbverify --cert boot.pem "$assets/boot/bootmgfw-signed.efi"
ls -l "$assets/keys" "$assets/boot/bootmgfw-signed.efi"
