#!/bin/sh
# After the files are there: the user, the folders, and the service. A deb is told "configure"
# with the version before, an rpm 1 for an installation and 2 for an upgrade.
set -e

first=no
case "$1" in
configure) if [ -z "$2" ]; then first=yes; fi ;;
1) first=yes ;;
2) ;;
*) exit 0 ;;
esac

if command -v systemd-sysusers >/dev/null 2>&1 && command -v systemd-tmpfiles >/dev/null 2>&1; then
	systemd-sysusers kestrix.conf
	systemd-tmpfiles --create kestrix.conf
else
	echo "kestrix: there is no systemd-sysusers or systemd-tmpfiles; create the user kestrix and give it /etc/kestrix, /var/lib/kestrix and /var/log/kestrix"
fi

# The files of the folder are one configuration: a further one would change what is there.
found=no
for f in /etc/kestrix/*.hcl; do
	if [ -e "$f" ]; then found=yes; fi
done
if [ "$first" = yes ] && [ "$found" = no ]; then
	mkdir -p /etc/kestrix
	cp /usr/share/kestrix/site.hcl /etc/kestrix/site.hcl
fi

# Without a running systemd, as in an image that is being made, nothing is started.
if [ ! -d /run/systemd/system ]; then
	exit 0
fi
systemctl daemon-reload
if [ "$first" = yes ]; then
	echo "kestrix: systemctl enable --now kestrix starts it; it answers /alive on this machine until /etc/kestrix is changed"
	exit 0
fi

# The running process is of the version before. It goes on if the new one refuses the
# configuration, for a restart would leave nobody. Variables that a drop-in sets for the
# service are not set here: a configuration that needs them counts as refused.
if systemctl is-active --quiet kestrix.service; then
	if runuser -u kestrix -- /usr/bin/kestrix check -severity error /etc/kestrix; then
		systemctl restart kestrix.service
	else
		echo "kestrix: this version refuses /etc/kestrix, so the version before goes on running."
		echo "kestrix: kestrix version -compatible /etc/kestrix lists why; then systemctl restart kestrix"
	fi
fi
