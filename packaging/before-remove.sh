#!/bin/sh
# Before the files are gone: the service ends. A deb is told "remove", an rpm 0; an upgrade is
# told something else, and the service goes on.
set -e

case "$1" in
remove | 0) ;;
*) exit 0 ;;
esac
if [ -d /run/systemd/system ]; then
	systemctl disable --now kestrix.socket kestrix.service
fi
