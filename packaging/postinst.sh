#!/bin/sh
set -e
if ! getent passwd readyferry >/dev/null; then
	adduser --system --group --quiet --no-create-home --home /var/lib/readyferry --shell /usr/sbin/nologin readyferry
fi
chgrp readyferry /etc/default/readyferry
if [ -d /run/systemd/system ]; then
	systemctl daemon-reload
	# An upgrade goes on with the new program; a first install waits until somebody starts it.
	systemctl try-restart readyferry.service
fi
