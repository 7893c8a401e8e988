# make demo         set up, and open the demo
# make test         set up, and run every check and test
# make check        linting and types
# make lock         make requirements.lock anew; “make lock KEEP=1” changes only what it has to
# make newest       run every check and test with the newest versions that pyproject.toml allows, and tell what broke
# make oldest       the same with the oldest
# make bench        measure, and print a table and JSON; “make bench voice”: spoken phrases
# make screenshots  make the pictures in docs/screenshots anew
# make samples      make the sample sheets in docs/samples anew
# make texts        every text that a person can meet, in build/texts.txt
# make site         make the guide and the reference as a small site in build/site
# make protocol     make docs/protocol.md, its schema, and the tables of settings and of keys anew from what is declared

PYTHON ?= python3
BIN := .venv/bin
.PHONY: demo test check lock newest oldest bench voice screenshots samples protocol texts site system clean

demo: $(BIN)/.run
	@$(BIN)/brass-pebble demo

test: $(BIN)/.dev system check
	$(BIN)/python -m pytest

check: $(BIN)/.dev
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/mypy

lock: $(BIN)/python
	@$(BIN)/python tools/lock.py $(if $(KEEP),--keep)

newest oldest: $(BIN)/.dev system
	$(BIN)/python tools/other_versions.py $@ $(TESTS)

# With “make bench voice”, spoken phrases alone.
bench: $(BIN)/.dev system
	$(BIN)/python benchmarks/$(if $(filter voice,$(MAKECMDGOALS)),voice,run).py

voice:
	@:

screenshots: $(BIN)/.dev system
	$(BIN)/python tools/screenshots.py

samples: $(BIN)/.run
	$(BIN)/python tools/samples.py

protocol: $(BIN)/.run
	$(BIN)/python tools/protocol_page.py
	$(BIN)/python tools/settings_page.py
	$(BIN)/python tools/findings_page.py
	$(BIN)/python tools/keys_page.py
	$(BIN)/python tools/steps_page.py
	$(BIN)/python tools/editor_grammar.py

texts: $(BIN)/.dev
	$(BIN)/python tools/texts.py build/texts.txt

site: $(BIN)/.dev
	$(BIN)/python tools/site.py

$(BIN)/python:
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' || \
	    { echo "Python 3.11 or later is needed; name it with: make PYTHON=python3.12"; exit 1; }
	@echo "Setting up in .venv (one to three minutes, once): an environment of its own, then the packages that"
	@echo "requirements.lock names, then Brass Pebble itself."
	@$(PYTHON) -m venv .venv

$(BIN)/.run: $(BIN)/python pyproject.toml requirements.lock
	@$(BIN)/python tools/install.py build program --if-ready voice && touch $@

$(BIN)/.dev: $(BIN)/python pyproject.toml requirements.lock
	@$(BIN)/python tools/install.py build program dev && touch $@ $(BIN)/.run

system: $(BIN)/python
	@$(BIN)/python tools/system_packages.py

clean:
	rm -rf .venv .cache build .pytest_cache .mypy_cache .ruff_cache .hypothesis
