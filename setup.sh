# Sourced by run-demo and run-tests: finds what is needed, installs Debian packages where it may, and otherwise says
# exactly what to install. It changes nothing when everything is there.

need_packages() {
  missing=()
  for pair in "$@"; do
    command=${pair%%=*} package=${pair#*=}
    case $command in
      postgres) compgen -G "/usr/lib/postgresql/*/bin/postgres" >/dev/null || command -v postgres >/dev/null || missing+=("$package") ;;
      *) command -v "$command" >/dev/null || missing+=("$package") ;;
    esac
  done
  [ ${#missing[@]} -eq 0 ] && return
  if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    echo "Installing ${missing[*]} ..."
    export DEBIAN_FRONTEND=noninteractive
    apt-get update -qq && apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null && return
  fi
  echo "Please install what is missing, then run this again:" >&2
  echo "    sudo apt-get install ${missing[*]}" >&2
  exit 2
}

need_toolchains() {
  [ -x /usr/local/go/bin/go ] && PATH=$PATH:/usr/local/go/bin
  if ! command -v go >/dev/null; then
    echo "Please install Go 1.26 or newer (https://go.dev/dl/), then run this again." >&2
    exit 2
  fi
  if ! command -v npm >/dev/null; then
    echo "Please install Node.js 20 or newer with npm (https://nodejs.org/), then run this again." >&2
    exit 2
  fi
}

# The console's packages are installed when the lock file changed, and only then. Not with `npm ci`: it refuses a lock file
# without the builds of a package for other systems, and not every registry carries those.
console_packages() {
  stamp=console/node_modules/.installed
  if ! cmp -s console/package-lock.json "$stamp"; then
    (cd console && npm install --no-save --no-audit --no-fund --loglevel=error >/dev/null)
    cp console/package-lock.json "$stamp"
  fi
}

# build FOLDER: the console into the server, and the programs into the folder.
build() {
  console_packages
  (cd console && npm run --silent build >/dev/null)
  mkdir -p "$1"
  go build -o "$1" ./cmd/...
}
