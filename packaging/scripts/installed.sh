#!/bin/sh
# After installing or upgrading: the account that the service runs as, and a restart of one
# that runs. A new one is started by whoever has looked at /etc/crelvo/crelvo.yaml.
set -e
if ! getent passwd crelvo >/dev/null; then
	useradd --system --user-group --home-dir /var/lib/crelvo --no-create-home --shell /usr/sbin/nologin crelvo
fi
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
	systemctl try-restart crelvo.service
fi
