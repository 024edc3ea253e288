#!/bin/sh
# Installs the Debian packages that tests and screenshots need and that are not there yet.
set -eu

command -v go >/dev/null || { echo "Go is needed: https://go.dev/dl/" >&2; exit 1; }
command -v node >/dev/null || { echo "Node.js 20 or later is needed" >&2; exit 1; }

wanted="slapd chromium fonts-noto-core fonts-noto-cjk fonts-liberation fonts-dejavu-core xvfb xdotool thunderbird postfix dovecot-imapd dovecot-lmtpd gnupg openssl wine64 gcc-mingw-w64-x86-64 xterm imagemagick unzip libreoffice-writer-nogui pandoc poppler-utils zbar-tools roundcube-core php-cli php-xml php-mbstring php-masterminds-html5 php-sqlite3 webkit2gtk-driver neomutt tmux"
missing=""
for package in $wanted; do
	dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q "install ok installed" || missing="$missing $package"
done
# Debian has one browser with the Gecko engine; package and program alone end in -esr.
gecko=""
ls /usr/bin/*-esr >/dev/null 2>&1 || gecko="wanted"
[ -z "$missing$gecko" ] && exit 0

as_root=""
[ "$(id -u)" -eq 0 ] || as_root="sudo"
$as_root apt-get update -qq
[ -z "$gecko" ] || missing="$missing $(apt-cache search --names-only -- '-esr$' | cut -d ' ' -f 1)"
echo "Installing:$missing"
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
