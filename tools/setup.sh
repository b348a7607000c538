# SPDX-License-Identifier: MIT
# Sourced by ./demo and ./check: installs what is missing, or says what to install.

packages_build="libasmjit-dev libasio-dev cmake ninja-build g++ pkg-config libfmt-dev libexpected-dev libelf-dev libdw-dev
  nlohmann-json3-dev libcli11-dev libtomlplusplus-dev libedit-dev libncurses-dev libcairo2-dev fonts-dejavu-core"
packages_check="$packages_build catch2 gcc-avr binutils-avr avr-libc arduino-core-avr gcc-12-source gcc-riscv64-unknown-elf picolibc-riscv64-unknown-elf xz-utils clang libclang-rt-14-dev
  clang-format git sigrok-cli nodejs node-ajv libvterm-dev libxml2-utils lcov"
packages_browser="chromium"

say() { printf '\n== %s\n' "$*"; }

# need PACKAGE...
need() {
  local missing=() package
  for package in "$@"; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' ||
      missing+=("$package")
  done
  [[ ${#missing[@]} -eq 0 ]] && return
  if [[ $(id -u) -ne 0 ]]; then
    echo "These Debian packages are missing:"
    echo "  sudo apt-get install --no-install-recommends ${missing[*]}"
    exit 1
  fi
  say "installing ${missing[*]}"
  export DEBIAN_FRONTEND=noninteractive
  apt-get update -q && apt-get install -qy --no-install-recommends "${missing[@]}" >/dev/null
}
