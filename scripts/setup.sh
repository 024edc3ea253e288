#!/bin/sh
# Installs the Debian packages that tests and screenshots need and that are not there yet.
set -eu

command -v go >/dev/null || { echo "Go is needed: https://go.dev/dl/" >&2; exit 1; }
command -v node >/dev/null || { echo "Node.js 20 or later is needed" >&2; exit 1; }

wanted="chromium fonts-noto-core fonts-noto-cjk fonts-liberation fonts-dejavu-core xvfb xterm imagemagick unzip libreoffice-writer-nogui pandoc poppler-utils zbar-tools roundcube-core php-cli php-xml php-mbstring php-masterminds-html5 firefox-esr"
missing=""
for package in $wanted; do
	dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q "install ok installed" || missing="$missing $package"
done
[ -z "$missing" ] && exit 0

as_root=""
[ "$(id -u)" -eq 0 ] || as_root="sudo"
echo "Installing:$missing"
$as_root apt-get update -qq
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
