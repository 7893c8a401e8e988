#!/bin/sh
# Makes sure that the commands the tests need are there: COMMAND:PACKAGE …
# As root on Debian it installs what is missing; otherwise it names it in one line and fails.
PATH=$PATH:/usr/sbin:/sbin
missing=""
for need in "$@"; do
    command -v "${need%%:*}" > /dev/null 2>&1 || missing="$missing ${need#*:}"
done
# Files that some tests need: FILE:PACKAGE.
for need in /lib/systemd/systemd-udevd:udev /usr/share/X11/xkb/symbols/de:xkb-data /usr/share/X11/locale/en_US.UTF-8/Compose:libx11-data; do
    [ -e "${need%%:*}" ] || missing="$missing ${need#*:}"
done
ldconfig -p | grep -q libxkbcommon.so.0 || missing="$missing libxkbcommon0"
fc-list 2> /dev/null | grep -q "JetBrains Mono" || missing="$missing fonts-jetbrains-mono fontconfig"
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get > /dev/null 2>&1; then
    echo "Installing:$missing"
    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing > /dev/null
else
    echo "The tests need these packages: sudo apt-get install$missing" >&2
    exit 1
fi
