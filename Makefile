# Two commands do everything on a fresh machine: `make demo` and `make test`.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin

.PHONY: demo test quick lint wheel pythons bench screenshots docs pages captures proofs mutants coverage clean

demo: $(VENV)/installed
	@$(BIN)/lattice demo

# Compiled once: where Python is told to write no bytecode, each of the many processes would compile all modules again.
# Many tests wait for real programs, so there are more processes than cores. What is slow comes with `make proofs`.
test: $(VENV)/installed-test programs lint
	@$(BIN)/python -m compileall -q src tests scripts
	LATTICE_EXAMPLES=0.5 $(BIN)/pytest -q -n 4 --dist worksteal -p no:cacheprovider -m "not slow"

# The rooms of the core and their laws with few examples, the lowest rooms first: a minute, with nothing but Python.
ROOMS = following dialects expressions spelling account reading names behaviour plan checks compare changes mend withheld laws show house
quick: $(VENV)/installed-test
	@$(BIN)/python -m compileall -q src tests scripts
	LATTICE_EXAMPLES=0.15 HYPOTHESIS_PROFILE=quick $(BIN)/pytest -q -n 2 --dist worksteal -m "not real" \
		tests/test_packets.py tests/test_intent.py tests/test_notation.py
	LATTICE_EXAMPLES=0.15 HYPOTHESIS_PROFILE=quick $(BIN)/pytest -q -n 2 --dist worksteal -m "not real" \
		$(ROOMS:%=tests/test_%.py)

lint: $(VENV)/installed-test
	$(BIN)/ruff format --check src tests scripts benchmarks
	$(BIN)/ruff check src tests scripts benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports > /dev/null

# The real programs that some tests run: installed with apt where that is allowed, else those tests are skipped.
.PHONY: programs
programs:
	@sh scripts/install_programs.sh iproute2 iputils-ping nftables frr bird2 netplan.io ifupdown iptables procps libyang-tools user-mode-linux kmod systemd \
		chromium ppp git openssh-client openssh-server conntrack sudo

# The package as others get it: built, installed into an environment of its own, and the demo run from elsewhere.
wheel: $(VENV)/installed-test
	@rm -rf build/wheel && $(BIN)/pip wheel --quiet --no-deps --wheel-dir build/wheel .
	@$(PYTHON) -m venv build/wheel/venv && build/wheel/venv/bin/pip install --quiet build/wheel/*.whl
	@cd / && $(CURDIR)/build/wheel/venv/bin/lattice --version && $(CURDIR)/build/wheel/venv/bin/lattice demo > /dev/null

# The same wheel, and the tests that need nothing else, in every newer Python that this machine has.
pythons: wheel
	@sh scripts/newer_pythons.sh build/wheel/*.whl

bench: $(VENV)/installed-test
	$(BIN)/python benchmarks/speed.py
	$(BIN)/python benchmarks/rulesets.py
	$(BIN)/python benchmarks/archive.py
	$(BIN)/python benchmarks/rounds.py
	$(BIN)/pip install --quiet dd
	$(BIN)/python benchmarks/proving.py

# Slower than `make test` may be: verdicts about many more pairs, a million spoilt inputs, more examples for the laws.
proofs: $(VENV)/installed-test
	PYTHONPATH=tests:benchmarks:scripts $(BIN)/python tests/soundness.py 10000
	PYTHONPATH=tests:scripts $(BIN)/python tests/foreign.py 3000
	PYTHONPATH=tests $(BIN)/python tests/fuzzing.py 1000000
	LATTICE_EXAMPLES=2 $(BIN)/pytest -q -n 4 --dist worksteal tests
	LATTICE_EXAMPLES=25 $(BIN)/pytest -q -n 2 --dist worksteal tests/test_executing.py tests/test_inputs.py \
		tests/test_following.py tests/test_laws.py tests/test_withheld.py tests/test_mend.py tests/test_real.py
	LATTICE_EXAMPLES=25 $(BIN)/pytest -q -n 2 tests/test_live.py -k wherever_a_guard_is_killed

# Which small changes no test notices: a hundred of all rooms at random, for about two hours.
mutants: $(VENV)/installed-test
	$(BIN)/python scripts/mutants.py 100

# How much of the configurations in the source packages of the programs is understood; writes docs/coverage.md.
coverage: $(VENV)/installed-test
	$(BIN)/python scripts/real_files.py

screenshots: $(VENV)/installed-test
	@sh scripts/install_programs.sh xvfb xterm x11-apps imagemagick fonts-dejavu-core chromium
	$(BIN)/python scripts/screenshots.py

# The documentation, built without the network; what is wrong with it is an error.
docs: $(VENV)/installed-docs
	NO_MKDOCS_2_WARNING=1 $(BIN)/mkdocs build --quiet
	@echo build/site/index.html

captures: $(VENV)/installed-test
	$(BIN)/python scripts/capture_demo.py

# What is written from the code: schemas, reference pages, and what commands print on the other pages.
pages: $(VENV)/installed-test
	$(BIN)/python scripts/write_schema.py
	$(BIN)/python scripts/write_checks.py
	$(BIN)/python scripts/write_reference.py
	$(BIN)/python scripts/write_refusals.py
	$(BIN)/python scripts/pages.py

$(VENV)/installed: pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@$(BIN)/pip install --quiet --editable '.[all]'
	@touch $@

$(VENV)/installed-test: pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@$(BIN)/pip install --quiet --editable '.[test]'
	@touch $@ $(VENV)/installed

$(VENV)/installed-docs: pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	@$(BIN)/pip install --quiet --editable '.[docs]'
	@touch $@ $(VENV)/installed

clean:
	rm -rf $(VENV) build dist .pytest_cache .mypy_cache .ruff_cache .hypothesis .import_linter_cache
