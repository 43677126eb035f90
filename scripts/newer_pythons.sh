#!/bin/sh
# Installs a wheel in an environment for each newer Python that this machine has, and runs the demo and the tests of the
# core there; says which it had not.
set -e
wheel=$(realpath "$1")
for version in 3.12 3.13; do
    python=$(command -v "python$version" || true)
    if [ -z "$python" ] || ! "$python" -c pass 2>/dev/null; then
        python=$(ls -d "${PYENV_ROOT:-$HOME/.pyenv}/versions/$version".*/bin/python 2>/dev/null | tail -1)
    fi
    if [ -z "$python" ]; then
        echo "Python $version: not on this machine"
        continue
    fi
    place="build/python$version"
    rm -rf "$place"
    "$python" -m venv "$place"
    "$place/bin/pip" install -qq "$wheel[all]" pytest hypothesis z3-solver jsonschema
    (cd / && "$OLDPWD/$place/bin/lattice" demo >/dev/null)
    echo "Python $version: the demo runs; its tests:"
    HYPOTHESIS_PROFILE=quick "$place/bin/python" -m pytest -q -p no:cacheprovider \
        tests/test_packets.py tests/test_compare.py tests/test_jobs.py tests/test_notation.py tests/test_expressions.py
done
