#!/bin/sh
# After uparrot is installed or removed: the rules for adapters hold from the next plug on, and at
# once for those that are plugged in, where udev runs.
set -e
if [ -z "${DPKG_ROOT:-}" ] && [ -S /run/udev/control ] && command -v udevadm >/dev/null; then
	udevadm control --reload
	udevadm trigger --action=add --subsystem-match=tty --subsystem-match=usb-serial
fi
