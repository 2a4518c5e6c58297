# Sourced by ./start, ./check and ./fenwind: makes .venv from the lock files and tells what the system lacks.
# Needs only Python 3.11 or later; pip comes as a wheel beside this file, so python3-venv is not needed.
. "$(dirname "${BASH_SOURCE[0]}")/memory.sh"
here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
venv="$here/.venv"
py="$venv/bin/python"

find_python() {
  local name
  for name in python3.13 python3.12 python3.11 python3; do
    if command -v "$name" >/dev/null 2>&1 && "$name" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
      command -v "$name"; return 0
    fi
  done
  echo "fenwind: needs Python 3.11 or later; install it, on Debian with: apt-get install python3" >&2
  return 1
}

install_lock() {  # LOCK: install it unless this very lock was installed already
  local lock="$here/$1" stamp="$venv/.installed-$1" wheel
  cmp -s "$lock" "$stamp" && return 0
  wheel=$(echo "$here"/bootstrap/pip-*.whl)
  echo "fenwind: installing $1 (once)" >&2
  "$py" "$wheel/pip" install --quiet --disable-pip-version-check --no-warn-script-location --require-hashes --no-deps \
    --only-binary :all: -r "$lock" >&2 || { echo "fenwind: the packages of $1 could not be installed; see above" >&2; return 1; }
  cp "$lock" "$stamp"
}

make_environment() {
  local base
  if ! "$py" -c pass 2>/dev/null; then
    base=$(find_python) || return 1
    rm -rf "$venv"
    "$base" -m venv --without-pip "$venv" || return 1
  fi
  install_lock requirements.lock || return 1
  # The application runs from the source tree, so that the tree is what is tested.
  echo "$here/src" > "$("$py" -c 'import sysconfig; print(sysconfig.get_path("purelib"))')/fenwind.pth"
  if ! grep -qs memory.sh "$venv/bin/fenwind"; then
    printf '#!/bin/sh\n. "%s"\nexec "%s" -P -m fenwind "$@"\n' "$here/bootstrap/memory.sh" "$py" > "$venv/bin/fenwind"
    chmod +x "$venv/bin/fenwind"
  fi
  compile_loops
}

compile_loops() {  # the loops over large networks, once and after they have changed; they would be when first used
  local changed stamp="$venv/.compiled"
  changed=$(find "$here/src/fenwind/estimation" -name '*.py' -newer "$stamp" 2>/dev/null || echo all)
  [ -n "$changed" ] || return 0
  echo "fenwind: compiling what is for large networks (once)" >&2
  "$py" -m fenwind.estimation.compiled && touch "$stamp"
}

# Shared libraries that Qt loads and the Debian package of each.
qt_libraries="libGL.so.1:libgl1 libEGL.so.1:libegl1 libglib-2.0.so.0:libglib2.0-0 libxkbcommon.so.0:libxkbcommon0
libdbus-1.so.3:libdbus-1-3 libfontconfig.so.1:libfontconfig1"
window_libraries="libxcb-cursor.so.0:libxcb-cursor0 libxcb-icccm.so.4:libxcb-icccm4 libxcb-keysyms.so.1:libxcb-keysyms1
libxcb-shape.so.0:libxcb-shape0 libxcb-xkb.so.1:libxcb-xkb1 libxkbcommon-x11.so.0:libxkbcommon-x11-0
libxcb-image.so.0:libxcb-image0 libxcb-render-util.so.0:libxcb-render-util0 libxcb-randr.so.0:libxcb-randr0"

missing_packages() {  # LIBRARY:PACKAGE ... : the packages whose library does not load
  "$py" - "$@" <<'PY'
import ctypes, sys
for pair in sys.argv[1:]:
    library, package = pair.split(":")
    try:
        ctypes.CDLL(library)
    except OSError:
        print(package)
PY
}

need_packages() {  # PACKAGE ...: install them as root, else print the line that does
  [ $# -gt 0 ] || return 0
  if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
    echo "fenwind: installing system packages: $*" >&2
    { apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@"; } >/dev/null 2>&1 && return 0
  fi
  echo "fenwind: these system packages are missing; install them with: sudo apt-get install $*" >&2
  return 1
}
