#!/bin/sh
# After the files are gone. Configuration, orders and logs stay; a deb that is purged takes
# those of the service with it. The user stays, as files may still be its own.
set -e

if [ "$1" = purge ]; then
	rm -rf /var/lib/kestrix /var/log/kestrix
	rm -f /etc/kestrix/site.hcl
	rmdir /etc/kestrix 2>/dev/null || true
fi
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
fi
