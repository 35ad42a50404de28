# Everything a newcomer needs: `make demo`, `make install`, `make test`, `make check`.
# What they need is installed into .tools by tools/prepare.py; only `make install` changes anything else.

PYTHON ?= python3
INTO ?= $(HOME)/.local/share/rabbet-program
COMMANDS ?= $(HOME)/.local/bin
TOOLS := .tools
RUN := $(TOOLS)/bin/python

.PHONY: install demo test lint types check bench reference screenshots clean

install:
	$(PYTHON) tools/prepare.py "$(INTO)" "$(COMMANDS)"

demo: $(TOOLS)/ready
	$(RUN) -m rabbet demo
	@echo; echo "To go on: $(RUN) -m rabbet demo --all, or one of these chapters. To install Rabbet: see README.md"

test: $(TOOLS)/ready
	$(RUN) tools/run_tests.py

lint: $(TOOLS)/ready
	$(RUN) -m ruff check src tests bench tools
	$(RUN) -m ruff format --check src tests bench tools

types: $(TOOLS)/ready
	$(RUN) -m mypy

check: test lint types

bench: $(TOOLS)/ready
	$(RUN) -m bench.startup
	$(RUN) -m bench.solve
	$(RUN) -m bench.resolve
	$(RUN) -m bench.recreate
	$(RUN) -m bench.runtimes
	$(RUN) -m bench.trials
	$(RUN) -m bench.culprit
	$(RUN) -m bench.prove
	$(RUN) -m bench.rules
	$(RUN) -m bench.imports
	$(RUN) -m bench.drift
	$(RUN) -m bench.bounds
	$(RUN) -m bench.census
	$(RUN) -m bench.large_listings
	$(RUN) -m bench.change
	$(RUN) -m bench.growth --picture docs/screenshots/growth.png
	$(RUN) -m bench.team
	$(RUN) -m bench.network_disk

reference: $(TOOLS)/ready
	$(RUN) tools/reference.py

screenshots: $(TOOLS)/ready
	$(RUN) tools/screenshots.py

$(TOOLS)/ready: pyproject.toml tools/prepare.py
	$(PYTHON) tools/prepare.py

clean:
	rm -rf $(TOOLS) build src/*.egg-info
