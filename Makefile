# The two commands that matter: `make demo` and `make test`.
.PHONY: demo demo-up demo-down test check api count fuzz bench help

help:
	@echo "make demo       run the Skerry Lines demo until Ctrl-C (installs and builds what is missing)"
	@echo "make demo-up    the same in the background; make demo-down stops it"
	@echo "make test       run every test: core, plane, store, client, command line, console"
	@echo "make check      formatting, lints, types of the console"
	@echo "make api        hold the service against its own OpenAPI document"
	@echo "make count      count instructions a request, and hold them against scripts/instructions.baseline"
	@echo "make fuzz       throw made-up bytes at the parsers, 20 s each"
	@echo "make bench      measure, and write docs/benchmarks.md"

demo:
	@exec demo/demo.sh run

demo-up:
	@demo/demo.sh up

demo-down:
	@demo/demo.sh down

test:
	@scripts/test.sh

check:
	@scripts/check.sh

api:
	@scripts/api-check.sh

count:
	@scripts/bench.sh check

fuzz:
	@scripts/fuzz.sh

bench:
	@scripts/bench.sh
