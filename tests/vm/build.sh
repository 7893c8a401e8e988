#!/bin/sh
# Makes what the virtual machine boots: a Debian kernel and a small first file system, in the folder given.
# Nothing is installed; the kernel package is only unpacked.
set -eu
out=$1
here=$(CDPATH= cd -- "$(dirname -- "$0")" && pwd)
mkdir -p "$out"
kernel_package() { apt-cache depends linux-image-amd64 2> /dev/null | awk '/Depends: linux-image-/ {print $2; exit}'; }
package=$(kernel_package)
[ -n "$package" ] || { apt-get update -qq || true; package=$(kernel_package); }
[ -n "$package" ] || { echo "apt knows no linux-image-amd64; run apt-get update" >&2; exit 1; }
stamp="$package $(cat "$here/init.sh" "$here/build.sh" | cksum | cut -d' ' -f1)"
[ -f "$out/stamp" ] && [ "$(cat "$out/stamp")" = "$stamp" ] && exit 0
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
# The package client's own user may not enter the folder; then it fetches as root and says so.
(cd "$work" && apt-get download -q "$package" 2>/dev/null)
dpkg-deb -x "$work"/linux-image-*.deb "$work/kernel"
version=$(ls "$work/kernel/lib/modules" 2>/dev/null || ls "$work/kernel/usr/lib/modules")
modules=$work/kernel
[ -d "$modules/lib/modules" ] || { mkdir -p "$modules/lib"; ln -s ../usr/lib/modules "$modules/lib/modules"; }
depmod -b "$modules" "$version"
root=$work/root
mkdir -p "$root/bin" "$root/modules" "$root/proc" "$root/sys" "$root/dev" "$root/host" "$root/job" "$root/top" "$root/all"
cp "$(command -v busybox)" "$root/bin/busybox"
for module in virtio_pci 9pnet_virtio 9p overlay evdev uinput uhid hid-generic snd-seq snd-virmidi snd-seq-midi snd-aloop; do
    modprobe -d "$modules" -S "$version" --show-depends "$module" | awk '/^insmod/ {print $2}'
done | awk '!seen[$0]++' > "$work/list"
while read -r file; do
    cp "$file" "$root/modules/"
    case $file in
        # One program at a time, as a microphone.
        */snd-aloop.*) echo "$(basename "$file") pcm_substreams=1" >> "$root/modules/order" ;;
        *) basename "$file" >> "$root/modules/order" ;;
    esac
done < "$work/list"
cp "$here/init.sh" "$root/init"
chmod +x "$root/init"
(cd "$root" && find . | cpio -o -H newc --quiet | gzip -1) > "$out/initramfs.gz"
cp "$work"/kernel/boot/vmlinuz-* "$out/vmlinuz"
echo "$stamp" > "$out/stamp"
