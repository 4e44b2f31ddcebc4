# Sourced by bin/start and bin/test: puts in place what both need, and says what it does. A second call takes no time.

say() { printf 'ledgerman: %s\n' "$*" >&2; }
fail() { say "$*"; exit 1; }

# Debian packages that are not there yet, as root or through sudo.
install_debian_packages() {
  command -v apt-get >/dev/null || fail "$* is missing and this is no Debian machine: install it yourself and start again."
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null || fail "installing $* needs root: run this as root once, or install sudo."
    as_root=(sudo)
  fi
  say "installing Debian packages: $*"
  "${as_root[@]}" apt-get update -qq || fail "apt-get update failed; see above."
  "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null ||
    fail "apt-get could not install $*; see above."
}

need_node() {
  command -v node >/dev/null || fail "Node.js 20.19 or newer is needed: install it and start again."
  node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' ||
    fail "Node.js 20.19 or newer is needed, this is $(node --version)."
}

need_postgres() {
  if ! compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null && ! command -v postgres >/dev/null; then
    # Without this, Debian would set up and start a server of its own on the usual port.
    install_debian_packages postgresql-common
    if [ -f /etc/postgresql-common/createcluster.conf ] && [ -w /etc/postgresql-common/createcluster.conf ]; then
      sed -i 's/^#\?create_main_cluster.*/create_main_cluster = false/' /etc/postgresql-common/createcluster.conf
    fi
    install_debian_packages postgresql
  fi
}

need_chromium() {
  [ -x /usr/bin/chromium ] || install_debian_packages chromium fonts-liberation
}

# Other languages, for the examples in them. Without one its tests are skipped, so that none of this is a reason to stop.
need_languages() {
  local missing=()
  command -v php >/dev/null || missing+=(php-cli)
  command -v go >/dev/null || missing+=(golang-go)
  dpkg -s php-pgsql >/dev/null 2>&1 || missing+=(php-pgsql)
  [ -x /usr/bin/python3 ] && /usr/bin/python3 -c 'import psycopg2' 2>/dev/null || missing+=(python3-psycopg2)
  [ "${#missing[@]}" -eq 0 ] || (install_debian_packages "${missing[@]}") || say "going on without: ${missing[*]}"
}

# A language other than English that PostgreSQL can speak. Without it its tests are skipped.
need_german() {
  locale -a | grep -qix 'de_DE\.utf-\?8' && return
  local as_root=()
  [ "$(id -u)" -eq 0 ] || as_root=(sudo -n)
  say "making the locale de_DE.UTF-8"
  "${as_root[@]}" localedef -i de_DE -f UTF-8 de_DE.UTF-8 || say "going on without it"
}

# npm packages as the lock file has them; the stamp tells which lock file they came from.
need_packages() {
  local stamp=node_modules/.ledgerman-packages now
  now=$(sha256sum package-lock.json | cut -d' ' -f1)
  if [ "$(cat "$stamp" 2>/dev/null)" != "$now" ]; then
    say "installing npm packages"
    npm ci --no-audit --no-fund --loglevel=error >&2 || fail "npm ci failed; see above."
    printf '%s\n' "$now" >"$stamp"
  fi
}

# Everything compiled and the console bundled; the stamp tells from which sources.
need_build() {
  local stamp=node_modules/.ledgerman-build now
  now=$(find packages bench tsconfig*.json package-lock.json \( -name node_modules -o -name dist -o -name '*.tsbuildinfo' -o -name test \) -prune -o -type f -print0 |
    LC_ALL=C sort -z | xargs -0 sha256sum | sha256sum | cut -d' ' -f1)
  if [ "$(cat "$stamp" 2>/dev/null)" != "$now" ]; then
    say "building"
    npm run --silent build >&2 || fail "the build failed; see above."
    printf '%s\n' "$now" >"$stamp"
  fi
}
