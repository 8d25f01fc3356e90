# Sourced by run and check: brings a fresh Debian 12 machine to where Proteron can start.
# Every step is skipped when it was done before for the same inputs.

proteron_root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
venv="$proteron_root/.venv"

say() { printf '%s\n' "$*" >&2; }

as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo -n "$@"; fi; }

# install_packages NAME…: install the Debian packages that are missing, or say which they are.
install_packages() {
  local missing=()
  local name
  for name in "$@"; do
    dpkg-query -W -f='${Status}' "$name" 2>/dev/null | grep -q 'ok installed' || missing+=("$name")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  if [ "$(id -u)" != 0 ] && ! sudo -n true 2>/dev/null; then
    say "These Debian packages are missing, and installing them needs root:"
    say "  sudo apt-get install ${missing[*]}"
    exit 1
  fi
  say "Installing Debian packages: ${missing[*]}"
  # The packaged default cluster is never wanted: Proteron makes its own.
  as_root mkdir -p /etc/postgresql-common/createcluster.d
  echo "create_main_cluster = false" | as_root tee /etc/postgresql-common/createcluster.d/proteron.conf >/dev/null
  as_root env DEBIAN_FRONTEND=noninteractive apt-get update -q >&2
  as_root env DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends "${missing[@]}" >&2
}

# done_for STAMP FILE…: whether the step was done with these very files; mark_done records it.
stamp_of() { cat "$@" 2>/dev/null | sha256sum | cut -d' ' -f1; }
done_for() { local stamp=$1; shift; [ -f "$stamp" ] && [ "$(cat "$stamp")" = "$(stamp_of "$@")" ]; }
mark_done() { local stamp=$1; shift; stamp_of "$@" >"$stamp"; }

find_python() {
  local name
  for name in python3.11 python3; do
    if command -v "$name" >/dev/null && [ "$("$name" -c 'import sys; print(sys.version_info[:2] == (3, 11))')" = True ]; then
      command -v "$name"
      return
    fi
  done
  say "Python 3.11 is needed; Debian 12 has it as python3."
  exit 1
}

# setup_python EXTRA: the virtual environment with the pinned packages of an extra.
setup_python() {
  local extra=$1 stamp="$venv/installed-$1"
  local inputs=("$proteron_root/pyproject.toml" "$proteron_root/constraints.txt")
  if [ "$extra" = server ] && done_for "$venv/installed-check" "${inputs[@]}"; then return 0; fi
  done_for "$stamp" "${inputs[@]}" && return 0
  [ -x "$venv/bin/python" ] || "$(find_python)" -m venv "$venv"
  say "Installing Python packages into .venv"
  "$venv/bin/pip" install --quiet --disable-pip-version-check -c "$proteron_root/constraints.txt" \
    -e "$proteron_root[$extra]" >&2
  mark_done "$stamp" "${inputs[@]}"
}

page_inputs() {
  { find "$proteron_root/ui/src" -type f; [ ! -d "$proteron_root/ui/public" ] || find "$proteron_root/ui/public" -type f
    find "$proteron_root/ui" -maxdepth 1 -type f; } | LC_ALL=C sort
}

setup_node_modules() {
  local ui="$proteron_root/ui"
  done_for "$ui/node_modules/installed" "$ui/package-lock.json" && return 0
  say "Installing front-end packages"
  (cd "$ui" && npm ci --no-audit --no-fund --loglevel=error >&2)
  mark_done "$ui/node_modules/installed" "$ui/package-lock.json"
}

# build_page: the front end into ui/dist, when anything it is made from has changed.
build_page() {
  local stamp="$proteron_root/ui/dist/built" inputs
  mapfile -t inputs < <(page_inputs)
  done_for "$stamp" "${inputs[@]}" && return 0
  setup_node_modules
  say "Building the front end"
  (cd "$proteron_root/ui" && npm run --silent build >&2)
  mark_done "$stamp" "${inputs[@]}"
}

check_node() {
  command -v node >/dev/null && [ "$(node -p 'Number(process.versions.node.split(".")[0]) >= 20')" = true ]
}

# Debian 12 packages Node 18; the build needs 20, which comes as an npm package.
install_node() {
  install_packages nodejs npm
  check_node && return 0
  local place="$proteron_root/.venv/node"
  if [ ! -x "$place/node_modules/node/bin/node" ]; then
    say "Installing Node 20 beside the virtual environment"
    mkdir -p "$place"
    (cd "$place" && npm install --silent --no-save --prefix "$place" node@20 >&2)
  fi
  export PATH="$place/node_modules/node/bin:$PATH"
  check_node || { say "Node 20 or newer is needed to build the front end."; exit 1; }
}
