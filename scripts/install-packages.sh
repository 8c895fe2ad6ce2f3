#!/usr/bin/env bash
# The one list of Debian packages this project needs. Installs those that are missing, and fetches
# nothing if none is. With --recipes also what rebuilding the sample volumes takes, with --sanitizers
# what the sanitized build and the fuzzers take.
set -euo pipefail

packages=(
  g++ cmake ninja-build clang-format zstd dosfstools mtools unzip xorriso
  libboost-program-options-dev libfmt-dev libspdlog-dev libsqlitecpp-dev libsqlite3-dev
  nlohmann-json3-dev libeigen3-dev libicu-dev libssl-dev libarchive-dev libisofs-dev libxml2-dev liblzma-dev libbz2-dev zlib1g-dev libblkid-dev libwim-dev libseccomp-dev libjpeg62-turbo-dev
  libnbd-dev libatasmart-dev nbdkit libtiff-dev libwebp-dev libgif-dev libpng-dev libturbojpeg0-dev libexif-dev libsixel-dev libheif-dev libavformat-dev libavcodec-dev libswscale-dev libpoppler-cpp-dev libfontconfig-dev libfuse3-dev fuse3 libcairo2-dev libpango1.0-dev fonts-dejavu-core pkg-config dpkg-dev groff
  libgtest-dev
)
if [ "${1:-}" = --recipes ]; then
  packages+=(user-mode-linux qemu-system-x86 busybox-static cpio fdisk python3
    nbdkit-plugin-python qemu-utils ntfs-3g exfatprogs exfat-fuse faketime attr xorriso kmod mdadm dmsetup btrfs-progs e2fsprogs
    ffmpeg imagemagick flac libheif-examples libjpeg-turbo-progs pandoc qpdf p7zip-full gcab zip bzip2 xz-utils lz4
    fonttools fonts-dejavu-core python3-pil python3-reportlab python3-openpyxl python3-docx python3-xlwt python3-matplotlib
    libreoffice-impress-nogui libreoffice-calc-nogui libreoffice-writer-nogui gcc libgsf-1-dev)
fi

if [ "${1:-}" = --sanitizers ]; then
  packages+=(clang clang-tidy libclang-rt-14-dev)
fi

missing=()
for package in "${packages[@]}"; do
  status=$(dpkg-query -W -f '${Status}' "$package" 2>/dev/null || true)
  [ "$status" = "install ok installed" ] || missing+=("$package")
done
[ ${#missing[@]} -gt 0 ] || exit 0

echo "Installing: ${missing[*]}"
root=()
[ "$(id -u)" = 0 ] || root=(sudo)
"${root[@]}" apt-get update -q
DEBIAN_FRONTEND=noninteractive "${root[@]}" apt-get install -q -y --no-install-recommends "${missing[@]}"
