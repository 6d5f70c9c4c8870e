# Sourced by start and check: system libraries, virtual environment, pinned packages, compiled kernels.

say() { printf '%s\n' "$*" >&2; }

# Debian packages that PyQt6 and VTK need beyond a bare system, and a file that shows each is there; for tests a browser and a validator.
system_packages() {
  local missing=() pair
  if [ "$2" = dev ]; then
    command -v chromium >/dev/null || missing+=(chromium)
    command -v desktop-file-validate >/dev/null || missing+=(desktop-file-utils)
  fi
  for pair in libegl1:libEGL.so.1 libgl1:libGL.so.1 libopengl0:libOpenGL.so.0 libgl1-mesa-dri:dri/swrast_dri.so libxkbcommon0:libxkbcommon.so.0 \
      libxkbcommon-x11-0:libxkbcommon-x11.so.0 libdbus-1-3:libdbus-1.so.3 libfontconfig1:libfontconfig.so.1 \
      libglib2.0-0:libglib-2.0.so.0 libxcb-cursor0:libxcb-cursor.so.0 libxcb-icccm4:libxcb-icccm.so.4 \
      libxcb-image0:libxcb-image.so.0 libxcb-keysyms1:libxcb-keysyms.so.1 libxcb-render-util0:libxcb-render-util.so.0 \
      libxcb-shape0:libxcb-shape.so.0 libxcb-randr0:libxcb-randr.so.0 libx11-6:libX11.so.6 libxrender1:libXrender.so.1; do
    compgen -G "/usr/lib/*/${pair#*:}" >/dev/null || compgen -G "/usr/lib/${pair#*:}" >/dev/null \
      || compgen -G "/usr/lib64/${pair#*:}" >/dev/null || compgen -G "/lib/*/${pair#*:}" >/dev/null || missing+=("${pair%%:*}")
  done
  "$1" -c 'import ensurepip, venv' 2>/dev/null || missing+=(python3-venv)
  [ ${#missing[@]} -eq 0 ] && return 0
  local line="apt-get install -y --no-install-recommends ${missing[*]}"
  if command -v apt-get >/dev/null && [ "$(id -u)" = 0 ]; then
    say "Installing system packages: ${missing[*]}"
    { apt-get update -qq && DEBIAN_FRONTEND=noninteractive $line -qq; } >/dev/null && return 0
  elif command -v apt-get >/dev/null && command -v sudo >/dev/null && sudo -n true 2>/dev/null; then
    say "Installing system packages: ${missing[*]}"
    { sudo apt-get update -qq && sudo DEBIAN_FRONTEND=noninteractive $line -qq; } >/dev/null && return 0
  fi
  say "Some system libraries are missing. Run this line, then start again:"
  say "  sudo $line"
  exit 1
}

find_python() {
  local name
  for name in python3.11 python3.12 python3.13 python3; do
    if command -v "$name" >/dev/null && "$name" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
      command -v "$name"
      return 0
    fi
  done
  say "Python 3.11 or newer is needed. On Debian: sudo apt-get install python3 python3-venv"
  exit 1
}

# prepare FOLDER run|dev
prepare() {
  local here=$1 kind=$2 stamp python
  local venv=$here/.venv
  stamp=$(cat "$here/constraints.txt" "$here/pyproject.toml" "$here/scripts/setup.sh" | cksum | tr ' ' '-')
  if [ -x "$venv/bin/python" ] && { [ "$(cat "$venv/ready-$kind" 2>/dev/null)" = "$stamp" ] \
      || { [ "$kind" = run ] && [ "$(cat "$venv/ready-dev" 2>/dev/null)" = "$stamp" ]; }; } && "$venv/bin/python" -c '' 2>/dev/null; then
    return 0
  fi
  python=$(find_python)
  system_packages "$python" "$kind"
  say "Setting up Tidal Lens in $venv (once, a minute or two)…"
  "$venv/bin/python" -m pip --version >/dev/null 2>&1 || "$python" -m venv --clear "$venv"
  "$venv/bin/python" "$here/scripts/wanted.py" "$kind" > "$venv/wanted.txt"
  "$venv/bin/python" -m pip install -qq --disable-pip-version-check -c "$here/constraints.txt" -r "$venv/wanted.txt" \
    || { say "The packages could not be installed. Is a package index reachable?"; exit 1; }
  # Tests want all kernels; the window compiles what it needs, and the rest beside it.
  if [ "$kind" = dev ]; then
    say "Compiling kernels (once)…"
    PYTHONPATH=$here/src "$venv/bin/python" -m tidal_lens --warm >&2
  fi
  "$venv/bin/python" -m compileall -q "$here/src" || true # once, so that every start finds it, also where Python may not keep it
  printf '%s' "$stamp" > "$venv/ready-$kind"
}
