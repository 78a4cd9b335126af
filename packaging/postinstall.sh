#!/bin/sh
# Debian calls this with "configure", RPM with a number.
set -e
if ! getent passwd urbankeep >/dev/null; then
  useradd --system --user-group --home-dir /var/lib/urbankeep --no-create-home --shell /usr/sbin/nologin --comment "Urban Keep" urbankeep
fi
if [ ! -d /var/lib/urbankeep ]; then
  install -d -o urbankeep -g urbankeep -m 0700 /var/lib/urbankeep
fi
if [ -d /run/systemd/system ]; then
  systemctl daemon-reload
  systemctl enable urbankeep.service >/dev/null 2>&1 || true
  systemctl restart urbankeep.service || echo "urbankeep did not start: journalctl -u urbankeep says why" >&2
fi
if [ ! -e /var/lib/urbankeep/urbankeep.db ]; then
  echo "Urban Keep is installed. Set it up with: urbankeep setup"
fi
