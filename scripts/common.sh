# Sourced by the other scripts: says what is done, installs what is missing, builds.

set -euo pipefail
top=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$top"

say() { printf '\n== %s\n' "$*"; }

# need FILE: installs the packages listed in FILE that are not there.
need() {
  local missing=() package
  while read -r package; do
    case $package in '' | '#'*) continue ;; esac
    [ "$(dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null)" = installed ] || missing+=("$package")
  done <"$1"
  [ ${#missing[@]} -eq 0 ] && return 0
  local install="apt-get install -y --no-install-recommends ${missing[*]}"
  say "installing missing packages: ${missing[*]}"
  local sudo=()
  if [ "$(id -u)" -ne 0 ]; then
    if ! sudo -n true 2>/dev/null && ! { [ -t 0 ] && sudo true; }; then
      printf 'These packages are missing and cannot be installed from here. Run this line and try again:\n\n  sudo %s\n\n' "$install" >&2
      exit 2
    fi
    sudo=(sudo)
  fi
  local log
  log=$(mktemp)
  if ! { "${sudo[@]}" env DEBIAN_FRONTEND=noninteractive apt-get update && "${sudo[@]}" env DEBIAN_FRONTEND=noninteractive $install; } >"$log" 2>&1; then
    tail -n 5 "$log" >&2
    printf '\nThe packages could not be installed. Run this line and try again:\n\n  sudo %s\n\n' "$install" >&2
    rm -f "$log"
    exit 2
  fi
  rm -f "$log"
}

# build PRESET [TARGET…]: configures once, builds what has changed.
build() {
  local preset=$1
  shift
  say "building ($preset)"
  local launcher=()
  # Precompiled headers have a date in them, which does not matter.
  export CCACHE_SLOPPINESS=pch_defines,time_macros
  command -v ccache >/dev/null && launcher=(-DCMAKE_C_COMPILER_LAUNCHER=ccache -DCMAKE_CXX_COMPILER_LAUNCHER=ccache)
  cmake --preset "$preset" "${launcher[@]}" >/dev/null
  if [ -t 1 ]; then
    cmake --build --preset "$preset" ${1:+--target "$@"}
  else
    cmake --build --preset "$preset" ${1:+--target "$@"} | grep -vE '^\[[0-9]+/[0-9]+\]' || [ "${PIPESTATUS[0]}" -eq 0 ]
  fi
}

# controller PRESET: builds the controller of the canal lock with the program of that preset.
controller() {
  local folder
  for folder in examples/*/controller; do
    make -s -C "$folder" ISODYNE="$top/build/$1/bin/isodyne" INCLUDE="$top/include"
  done
}
