#!/bin/sh
# Installs Debian packages that are not there yet, if this user may; says what it could not do.
missing=""
for package in "$@"; do
    dpkg -s "$package" >/dev/null 2>&1 || missing="$missing $package"
done
[ -z "$missing" ] && exit 0
if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
    echo "not installed, and not allowed to install:$missing"
    exit 0
fi
echo "installing$missing"
{ apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends $missing; } \
    >/tmp/lattice-apt.log 2>&1 || { tail -5 /tmp/lattice-apt.log; echo "could not install$missing"; }
