#!/bin/sh
# What people stored, and the records of it, are never removed with the program.
set -e
if [ -d /run/systemd/system ]; then
  systemctl daemon-reload || true
fi
case "$1" in
  purge|0)
    if rmdir /var/lib/urbankeep 2>/dev/null || [ ! -d /var/lib/urbankeep ]; then
      userdel urbankeep 2>/dev/null || true
    else
      echo "The data of Urban Keep stays in /var/lib/urbankeep, with its user. Remove both by hand when nobody needs them." >&2
    fi ;;
esac
