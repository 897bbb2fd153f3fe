# Shared by ./run and ./test.  Each part is skipped when what it makes is newer than what it is made from.
PYTHON="${PYTHON:-python3}"
unset PYTHONDONTWRITEBYTECODE # the program is started dozens of times here, and half a start is compiling its own files

fail() { echo "vonkel: $*" >&2; exit 1; }

setup_venv() { # $1: extras, $2: stamp name
  "$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || fail "Python 3.11 or newer is needed; set PYTHON to one."
  [ -x .venv/bin/python ] || "$PYTHON" -m venv .venv || fail "could not make .venv; is the venv module installed?"
  if [ ! -f ".venv/$2" ] || [ pyproject.toml -nt ".venv/$2" ] || [ requirements.lock -nt ".venv/$2" ]; then
    # what is imported is compiled then, by whoever comes first: most of what is installed here never is
    .venv/bin/pip install --quiet --no-compile --disable-pip-version-check --constraint requirements.lock -e ".$1"
    touch ".venv/$2"
  fi
}

setup_front() { # copies the front-end packages into the package; they are not committed
  local out=vonkel/web/static/vendor
  if [ ! -f "$out/.stamp" ] || [ package-lock.json -nt "$out/.stamp" ] || [ tools/vendor.py -nt "$out/.stamp" ]; then
    command -v npm >/dev/null || fail "npm is needed once, to set up the front-end packages."
    npm ci --loglevel=error
    "$PYTHON" tools/vendor.py
    touch "$out/.stamp"
  fi
}

warm_kernels() { # compiled loops are cached beside the code, so that the first start is quick; on while other things are done
  if [ ! -f .venv/warm ] || [ -n "$(find vonkel/core -name '*.py' -newer .venv/warm -print -quit)" ]; then
    { .venv/bin/python -m vonkel.core.warm && touch .venv/warm; } &
    WARMING=$!
  fi
}

warmed() { [ -z "${WARMING:-}" ] || wait "$WARMING" || fail "The loops could not be compiled."; }

# What needs no Python goes on beside what does, and says what it had to say when it is waited for.
beside() { SAID="$(mktemp)"; ( set -e; "$@" ) >"$SAID" 2>&1 & BESIDE=$!; }
beside_done() { local well=0; wait "$BESIDE" || well=$?; cat "$SAID" >&2; rm -f "$SAID"; [ "$well" = 0 ] || fail "The scripts of the pages can't be set up or don't pass, see above."; }

setup_app() { beside setup_front; setup_venv "" app-stamp; warm_kernels; beside_done; warmed; }

setup_tests() { # $1: what is to be done with the front-end, beside
  beside "$1"; setup_venv "[test]" test-stamp; warm_kernels; beside_done
  if ! command -v chromium >/dev/null; then
    local sudo=""; [ "$(id -u)" = 0 ] || sudo=sudo
    $sudo apt-get update -qq >/dev/null && $sudo apt-get install -y -qq chromium >/dev/null || fail "Chromium is needed for the browser tests."
  fi
  if [ ! -f /usr/share/assimp/models/BVH/01_01.bvh ]; then # open motions that nobody here made
    local sudo=""; [ "$(id -u)" = 0 ] || sudo=sudo
    { $sudo apt-get update -qq >/dev/null && $sudo apt-get install -y -qq assimp-testmodels >/dev/null; } || fail "Debian's assimp-testmodels are needed for the tests of motions from files."
  fi
}
