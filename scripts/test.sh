#!/usr/bin/env bash
# Runs every test: make test. Ends with the totals.
set -uo pipefail
cd "$(dirname "$0")/.."
. scripts/need.sh
need gcc=gcc git=git sqlite3=sqlite3 man=man-db /usr/bin/systemd-analyze=systemd /sbin/mkfs.ext4=e2fsprogs patch=patch yanglint=libyang2-tools chromium=chromium /usr/sbin/sshd=openssh-server /usr/sbin/netconfd=netconfd \
  /usr/share/yuma/modules=libyuma-base /usr/share/fonts/truetype/dejavu/DejaVuSans.ttf=fonts-dejavu-core \
  /usr/sbin/rsyslogd=rsyslog /usr/lib/x86_64-linux-gnu/rsyslog/lmnsd_ossl.so=rsyslog-openssl /usr/sbin/exim4=exim4-daemon-light pdftotext=poppler-utils nft=nftables
failed=0
step() {
  echo "== $1"
  shift
  "$@" || { echo "FAILED: $*"; failed=1; }
}
step "formatting, vet, staticcheck, types, lint" make --no-print-directory check
step "console unit tests" make --no-print-directory console-test
step "Go tests, whole-system tests, Chromium, netconfd" make --no-print-directory go-test
exit $failed
