# The front door. What each target needs is installed by scripts/bootstrap.

BUILD := build
JOBS := $(shell nproc)

.PHONY: all demo test page format lint bench counts install sanitize digests fuzz warnings coverage pictures clean

all: release

# One rule a preset: configure once, then build.
define preset_rule
.PHONY: $(1)
$(1):
	@scripts/bootstrap build test $(if $(filter release,$(1)),bench)
	@[ -e $(BUILD)/$(1)/build.ninja ] || cmake --preset $(1) >/dev/null
	@cmake --build $(BUILD)/$(1) -j $(JOBS) -- --quiet >&2
endef
$(foreach p,debug release clang asan tsan,$(eval $(call preset_rule,$(p))))

demo:
	@scripts/bootstrap build
	@[ -e $(BUILD)/demo/build.ninja ] || cmake -G Ninja -S . -B $(BUILD)/demo \
		-DCMAKE_BUILD_TYPE=Release >/dev/null
	@cmake --build $(BUILD)/demo -j $(JOBS) -- --quiet >&2
	@$(BUILD)/demo/ikvar demo

test: debug
	@scripts/check-headers
	@scripts/check-contexts --planted
	@scripts/check-includes --planted
	@scripts/check-exports $(BUILD)/debug
	@scripts/check-abi $(BUILD)/debug
	@scripts/check-names $(BUILD)/debug
	@scripts/check-snippets $(BUILD)/debug
	@scripts/rules --check
	@scripts/mutate --check
	@scripts/kinds $(BUILD)/debug/ikvar --check
	@$(BUILD)/debug/tests/ikvar_tests

# The page of a run, in a browser.
page: release
	@command -v npm >/dev/null || scripts/bootstrap node
	@scripts/bootstrap browser
	@scripts/check-page $(BUILD)/release

# The same tests under the sanitizers; threads under TSan.
sanitize:
	@scripts/bootstrap build test lint
	@$(MAKE) --no-print-directory asan tsan
	@scripts/each-suite $(BUILD)/asan/tests/ikvar_tests
	@for suite in queue dispatch ports; do CK_RUN_SUITE=$$suite $(BUILD)/tsan/tests/ikvar_tests || exit 1; done

# One tape, one digest: compilers, optimisations, other machines. What can't be
# installed is skipped, loudly.
digests:
	@scripts/bootstrap build lint
	@scripts/bootstrap i686 || true
	@scripts/bootstrap other || true
	@command -v node >/dev/null || scripts/bootstrap node || true
	@scripts/check-digests

# Programs that make their input up, SECONDS in all; what they find lies in
# build/fuzz/found.
SECONDS := 60
fuzz:
	@scripts/bootstrap build lint
	@[ -e $(BUILD)/fuzz/build.ninja ] || cmake --preset fuzz >/dev/null
	@cmake --build $(BUILD)/fuzz -j $(JOBS) -- --quiet >&2
	@scripts/fuzz $(BUILD)/fuzz $(SECONDS)

# No compiler warns, at any level.
warnings:
	@scripts/bootstrap build lint
	@scripts/check-warnings

sources = $(shell git ls-files '*.c' '*.h' '*.cc')

format:
	@scripts/bootstrap lint
	@clang-format -i $(sources)

# With clang, whose made-up programs come to what gcc's do.
lint: debug
	@scripts/bootstrap build test lint
	@clang-format --dry-run --Werror $(sources)
	@$(MAKE) --no-print-directory clang
	@CK_RUN_SUITE=programs $(BUILD)/clang/tests/ikvar_tests
	@scripts/lint $(BUILD)/debug

bench: release
	@$(BUILD)/release/ikvar bench

# The same rows of one thread in instructions: they don't drift.
counts: release
	@scripts/counts $(BUILD)/release $(GROUP)

# What is installed is built without tests and benchmarks, and needs nothing of
# theirs. The loader is told of new libraries where it looks by itself.
install:
	@scripts/bootstrap build
	@[ -e $(BUILD)/install/build.ninja ] || cmake --preset install >/dev/null
	@cmake --build $(BUILD)/install -j $(JOBS) -- --quiet >&2
	@cmake --install $(BUILD)/install --prefix $(or $(PREFIX),/usr/local)
	@[ "$$(id -u)" != 0 ] || ldconfig

coverage:
	@scripts/bootstrap build test coverage
	@scripts/coverage $(BUILD)/coverage

pictures: release
	@scripts/bootstrap pictures browser
	@[ -d build/page/node_modules ] || $(MAKE) --no-print-directory page >/dev/null
	@scripts/pictures $(BUILD)/release

clean:
	@rm -rf $(BUILD)
