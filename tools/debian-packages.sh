#!/bin/sh
# Sees to programs that come as Debian packages: installs what is missing where it may, else says
# what to install. Usage: debian-packages.sh PROGRAM-OR-PATH...
set -eu

package_of() {
    case "$1" in
        chromium) echo "chromium fonts-dejavu-core" ;;
        chromium-headless-shell) echo "chromium-headless-shell fonts-dejavu-core" ;;
        wine) echo "wine wine64" ;;
        x86_64-w64-mingw32-gcc) echo "gcc-mingw-w64-x86-64-win32" ;;
        systemd-analyze) echo "systemd" ;;
        gio | gdbus) echo "libglib2.0-bin" ;;
        dbus-run-session) echo "dbus-daemon" ;;
        dconf) echo "dconf-cli dconf-gsettings-backend gsettings-desktop-schemas" ;;
        /usr/libexec/xdg-permission-store) echo "xdg-desktop-portal" ;;
        /usr/libexec/power-profiles-daemon) echo "power-profiles-daemon" ;;
        */dist-packages/dbusmock) echo "python3-dbusmock" ;;
        mkfs.ext4 | debugfs) echo "e2fsprogs" ;;
        mkfs.xfs) echo "xfsprogs" ;;
        mkfs.btrfs) echo "btrfs-progs" ;;
        mkfs.vfat) echo "dosfstools" ;;
        mount | losetup) echo "mount util-linux" ;;
        e4defrag) echo "e2fsprogs" ;;
        clamd) echo "clamav-daemon" ;;
        smartctl) echo "smartmontools" ;;
        apt-ftparchive) echo "apt-utils" ;;
        dpkg-scanpackages) echo "dpkg-dev" ;;
        pdftotext | pdfinfo | pdffonts | pdftoppm) echo "poppler-utils" ;;
        xterm) echo "xterm" ;;
        Xvfb) echo "xvfb" ;;
        import) echo "imagemagick" ;;
        promtool) echo "prometheus" ;;
        systemd-nspawn) echo "systemd-container" ;;
        *) echo "$1" ;;
    esac
}

PATH="$PATH:/usr/sbin:/sbin"
missing=""
for program in "$@"; do
    command -v "$program" >/dev/null 2>&1 || [ -e "$program" ] || missing="$missing $(package_of "$program")"
done
[ -z "$missing" ] && exit 0

if [ "$(id -u)" -eq 0 ] && command -v apt-get >/dev/null 2>&1; then
    echo "Installing$missing"
    apt-get update -qq
    # shellcheck disable=SC2086
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
else
    echo "These Debian packages are needed:$missing" >&2
    echo "Install them with: sudo apt-get install$missing" >&2
    exit 1
fi
