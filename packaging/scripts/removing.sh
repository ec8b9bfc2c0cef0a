#!/bin/sh
# Before removing, and not before upgrading: dpkg says remove, rpm says 0.
set -e
if [ -d /run/systemd/system ] && { [ "$1" = remove ] || [ "$1" = 0 ]; }; then
	systemctl disable --now crelvo.service
fi
