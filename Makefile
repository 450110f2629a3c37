.PHONY: help demo test nightly hands ci format css vendor lock survey survey-swaps survey-timing survey-tools survey-tempo kits kits-foreign kit-tables judge sounds bench kills faults writers fuzz soak proxy extremes scale long notes

help:  ## Show what can be made
	@grep -E '^[a-z-]+:.*##' Makefile | sed -E 's/:.*## /\t/' | expand -t 16

demo:  ## Make the demo session and serve it
	bin/demo

test:  ## Run all tests
	bin/test

long:  ## Run the tests that take too long for every change
	.venv/bin/python -m pytest -m long

ci:  ## Run everything that must hold for a change
	.ci/run

format:  ## Format and sort all sources
	.venv/bin/ruff check --fix .
	.venv/bin/ruff format .
	git ls-files -z '*.html' | xargs -0 .venv/bin/djade --target-version 5.2 || true

css:  ## Build the CSS (needs Node)
	cd assets && npm ci --silent && npm run -s css

vendor:  ## Copy vendored scripts and fonts (needs Node)
	cd assets && npm ci --silent && npm run -s vendor

lock:  ## Lock the dependencies anew
	.venv/bin/pip-compile -q --strip-extras --allow-unsafe --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links -o requirements/runtime.txt pyproject.toml
	.venv/bin/pip-compile -q --strip-extras --allow-unsafe --no-header --no-emit-index-url --no-emit-trusted-host --no-emit-find-links --extra dev -o requirements/dev.txt pyproject.toml

survey:  ## Measure how well hits are found on generated kits (some minutes); SEED=300
	.venv/bin/python -m tests.survey $(or $(SEED),300)

survey-swaps:  ## Measure on kits of foreign strokes how well swapped files are found, and none doubted (six minutes); SEED=1000 KITS=60
	.venv/bin/python -m tests.survey_swaps $(or $(SEED),1000) $(or $(KITS),60)

survey-tools:  ## Measure limiter, filters, gate, shaper and space from outside, by NumPy and SciPy alone (two minutes)
	.venv/bin/python -m tests.survey_tools

survey-timing:  ## Measure lining up and editing on generated kits (a minute); SEED=900
	.venv/bin/python -m tests.survey_timing $(or $(SEED),900)

kits:  ## Measure what the one click makes of generated kits, by school (half an hour); SEED=4400 KITS=20
	.venv/bin/python -m tests.survey_kits $(or $(SEED),4400) $(or $(KITS),20)

kits-foreign:  ## The same on kits of strokes that nothing was tuned on, apart; SEED=4400 KITS=9
	.venv/bin/python -m tests.survey_kits $(or $(SEED),4400) $(or $(KITS),9) foreign

kit-tables:  ## Print targets, limits and means of each style from the code, as they stand in docs/kit.md
	.venv/bin/python -m tools.kit_tables

survey-tempo:  ## Measure meter and tempo on found hits, around a click and without one (a minute or two); SEED=900
	.venv/bin/python -m tests.survey_tempo $(or $(SEED),900)

judge:  ## Grow the hit judge's trees anew (forty minutes; needs the teach extra and two sound banks); KITS=440
	.venv/bin/python -m tools.teach_judge $(or $(KITS),440) $(or $(WORK),/tmp/strange-kits)

sounds:  ## Teach anew what each kind of mic sounds like (a quarter of an hour; needs the teach extra and two sound banks)
	.venv/bin/python -m tools.teach_sounds

bench:  ## Measure speed and memory
	.venv/bin/arkund bench

kills:  ## SIGKILL at random moments of all kinds of work (docs/reliability.md); KILLS=240
	.venv/bin/python -m tests.reliability.kills $(or $(KILLS),240)

hands:  ## Two windows, the one click, the command line and an engineer at the same time; SECONDS=300
	.venv/bin/python -m tests.reliability.hands $(or $(SECONDS),300)

notes:  ## Every note of every page done, undone and done again; FOLDER=... BPM=... for recordings of one's own
	.venv/bin/python -m tests.reliability.every_note $(FOLDER) $(BPM)

faults:  ## Full disks and read-only folders; FAULTS=60
	.venv/bin/python -m tests.reliability.faults $(or $(FAULTS),60)

writers:  ## Eight writers on one session at the same time; MOVES=4000
	.venv/bin/python -m tests.reliability.writers $(or $(MOVES),4000)

fuzz:  ## Damaged files and senseless requests, so many of each; FUZZ=2000
	.venv/bin/python -m tests.reliability.fuzz $(or $(FUZZ),2000)

soak:  ## So many auditions of eight clients, with prints and imports between; SOAK=20000
	.venv/bin/python -m tests.reliability.soak $(or $(SOAK),20000)

proxy:  ## The example configuration of docs/nginx.conf (needs nginx and openssl)
	.venv/bin/python -m tests.reliability.proxy

extremes:  ## Every field of the mixing half at both ends, alone and in company: time, memory, deviation (some minutes)
	.venv/bin/python -m tests.extremes

scale:  ## How a print's time and memory grow with mics and length
	.venv/bin/python -m tools.scale

nightly: kills faults writers hands notes fuzz soak long bench  ## All that takes hours: what breaks, what is lost, what grows, how fast
