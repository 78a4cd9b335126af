#!/bin/sh
# Not at an upgrade: Debian says "upgrade" then, RPM a number above 0.
set -e
case "$1" in
  remove|0)
    if [ -d /run/systemd/system ]; then
      systemctl disable --now urbankeep.service urbankeep-sftp.socket >/dev/null 2>&1 || true
    fi ;;
esac
