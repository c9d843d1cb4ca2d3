# SPDX-License-Identifier: Apache-2.0
# The front door. `make demo` shows the main job, `make check` passes the tests; both install what
# is missing first. Everything else is CMake: see CMakePresets.json.
.PHONY: demo check check-slow bench circuits format lint core sanitize coverage screenshots deps build clean

demo: build
	./scripts/demo.sh build/dev/corvak build/demo

check: build
	ctest --preset dev -j2 -LE slow

# what takes minutes and runs in CI
check-slow: build
	ctest --preset dev -j2 -L slow

bench: build
	./build/dev/bench/bench_speed
	./build/dev/bench/bench_accuracy
	./build/dev/bench/bench_cramer_rao
	./build/dev/bench/bench_sensorless
	./build/dev/bench/bench_control
	./build/dev/bench/bench_link
	./scripts/check-core.sh build/dev
	./scripts/count-steps.py

# logs of another physics, simulated by ngspice: half an hour the first time
circuits: build
	python3 bench/spice.py build/circuits build/dev/corvak

screenshots: build
	./scripts/screenshots.sh build/dev/corvak

build: deps
	@cmake --preset dev >/dev/null
	cmake --build --preset dev

# of the slowest suites a part (SUITE_IN_SHORT); left out: figures of a circuit and the README's commands
sanitize: deps
	@cmake --preset sanitize >/dev/null
	cmake --build --preset sanitize
	ctest --preset sanitize -j2 -E '^(test_circuit|readme)$$'

coverage: deps
	@cmake --preset coverage >/dev/null
	cmake --build --preset coverage
	find build/coverage -name '*.gcda' -delete
	ctest --test-dir build/coverage -j2 -LE slow
	./scripts/coverage.sh build/coverage

core: build
	./scripts/check-core.sh build/dev

lint: deps
	./scripts/lint.sh

format: deps
	clang-format -i $$(git ls-files '*.c' '*.h')

deps:
	@./scripts/install-deps.sh

clean:
	rm -rf build
