# Installs Debian packages that are missing. Sourced; takes PROGRAM=PACKAGE...
# Without the rights to install it says what is missing and goes on: tests that
# need it skip and say so.
need() {
  local missing=()
  local pair
  for pair in "$@"; do
    command -v "${pair%%=*}" >/dev/null 2>&1 || [ -e "${pair%%=*}" ] || missing+=("${pair##*=}")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  if [ "$(id -u)" != 0 ]; then
    echo "missing Debian packages, install them as root: ${missing[*]}" >&2
    return 0
  fi
  echo "installing Debian packages: ${missing[*]}"
  apt-get update -qq >/dev/null || true
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
}
