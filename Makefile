# SPDX-License-Identifier: Apache-2.0
# The front door. `make demo` shows the main job, `make check` passes the tests; both install what
# is missing first. Everything else is CMake: see CMakePresets.json.
.PHONY: demo check bench circuits format lint core sanitize screenshots deps build clean

demo: build
	./scripts/demo.sh build/dev/corvak build/demo

check: build
	ctest --preset dev -j2

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

# left out: what others of its tests run as well, and takes minutes under sanitizers
sanitize: deps
	@cmake --preset sanitize >/dev/null
	cmake --build --preset sanitize
	ctest --preset sanitize -j2 -E '^(test_agreement|test_calibrate|test_capture|test_circuit|test_estimate|test_turning|test_sensorless|test_other_winding|test_run|test_torque|test_pole_pairs|test_symmetries|test_hidden_bench|readme)$$'

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
