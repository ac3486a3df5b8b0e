# Tidy Hull. GNU Make and pkg-config; "make help" says what there is.
#
#   make              the programs, into build/
#   make demo         installs what is missing, builds, shows the guided tour
#   make check        installs what is missing, builds, runs all tests
#   make faults       death and refusal at every call of every verb (hours; EVERY=20)
#   make check-powercut   what is on the disk at one moment, mounted again
#   make soak         random work of four users with kills (MINUTES=120)
#   make check-vm     the tests that depend on the host, on another kernel
#   make check-servers   real servers, in an image made by debootstrap
#   make check-cluster   a batch engine over three nodes, as namespaces
#   make check-deb check-reproducible   the packages; two builds, byte by byte
#   make check-cross check-musl   ARCH=arm64: another architecture; another C library
#   make bench        measures against the floors, in one run (PART=start ROUNDS=5 JSON=FILE)
#   make install      PREFIX=/usr/local DESTDIR= (and make uninstall)
#   make deb          Debian packages, in build/deb
#   make docs lint analyze format fuzz compile-commands coverage clean
#
# Variants, each in a build folder of its own:
#   make CC=clang ..., make SAN=address,undefined ..., make WERROR=1 ...

VERSION := 0.1.0
PREFIX ?= /usr/local
LIBDIR ?= $(PREFIX)/lib
LIBEXECDIR = $(PREFIX)/libexec/tidyhull
DATADIR = $(PREFIX)/share/tidyhull

# For builds for another machine (scripts/check-cross): what runs its programs, and
# a static busybox of it.
RUN ?=
BUSYBOX ?= /bin/busybox

ifeq ($(origin CC),default)
CC := gcc
endif
VARIANT := $(if $(SAN),-san)$(if $(COVERAGE),-cov)$(if $(findstring clang,$(CC)),-clang)
BUILD := build$(VARIANT)

SHELL := /bin/bash
.SHELLFLAGS := -o pipefail -c
.DEFAULT_GOAL := all
.DELETE_ON_ERROR:
.SUFFIXES:
.PHONY: all library demo check check-built faults soak bench man install uninstall deb lint format format-check \
	headers fuzz clean help deps-build deps-check deps-develop docs \
	compile-commands coverage check-more analyze

# V=1 shows the commands whole.
Q := $(if $(V),,@)
say = $(if $(V),,@echo "  $(1)	$(2)")

# ---- flags ----

WARNINGS := -Wall -Wextra -Wpedantic -Wshadow -Wformat=2 \
	-Wstrict-prototypes -Wmissing-prototypes -Wold-style-definition \
	-Wpointer-arith -Wwrite-strings -Wcast-qual -Wvla -Wundef -fno-common
ifeq ($(findstring clang,$(CC)),)
WARNINGS += -Wjump-misses-init -Wlogical-op -Wduplicated-cond
endif
ifdef WERROR
WARNINGS += -Werror
endif
SANFLAGS := $(if $(SAN),-fsanitize=$(SAN) -fno-omit-frame-pointer \
	-fno-sanitize-recover=undefined) $(if $(COVERAGE),--coverage)
CFLAGS ?= $(if $(COVERAGE),-O0,$(if $(SAN),-O1,-O2)) -g
STANDARD := -std=c11 -D_GNU_SOURCE -D_FILE_OFFSET_BITS=64
DEFINES = -DTH_VERSION='"$(VERSION)"' -DTH_LIBEXECDIR='"$(LIBEXECDIR)"' \
	-DTH_DATADIR='"$(DATADIR)"' -DTH_REAPER_FILE='"$(BUILD)/reaper"'

PKG := pkg-config
# The large ones are loaded when they are needed (src/base/late.h).
LIBS_CORE := jansson libcyaml yaml-0.1 sqlite3 libisal libdeflate libzstd zlib libseccomp
LIBS_LATE := libcurl libcrypto
# Optional: a user's control groups are asked of systemd with it, if it is there.
LIBS_CLI := smartcols ncursesw
# By its name: its pkg-config file asks for glib's headers, which nobody needs.
LIBS_PILOT := -lslirp
LIBS_CHANDLER := libmicrohttpd gnutls jansson libcrypto
# Only asked when something is built: make deps must work without them.
# Loading many libraries takes longer than most commands do: what is there as an
# archive becomes part of the program.
archived = $(foreach lib,$(1),$(if $(filter-out -lm -ldl -lpthread -lrt,\
	$(filter -l%,$(lib))),$(if $(wildcard \
	$(shell $(CC) -print-file-name=$(patsubst -l%,lib%.a,$(lib)))),\
	$(patsubst -l%,-l:lib%.a,$(lib)),$(lib)),$(lib)))
core_libs = $(call archived,$(shell $(PKG) --static --libs $(LIBS_CORE)))
cli_libs = $(call archived,$(shell $(PKG) --libs $(LIBS_CLI)))
# Where it was built must not be seen in what was built. Each variable is a
# section: the linker puts small ones together, and large ones elsewhere.
all_cflags = $(STANDARD) $(WARNINGS) $(SANFLAGS) $(CFLAGS) -fdata-sections \
	-ffile-prefix-map=$(CURDIR)=. $(DEFINES) -Iinclude -Isrc \
	$(PKG_CFLAGS)
ifeq ($(filter deps-build deps-check deps-vm deps-cluster help clean format,$(MAKECMDGOALS)),)
PKG_CFLAGS := $(shell $(PKG) --cflags-only-I $(LIBS_CORE) $(LIBS_LATE) $(LIBS_CLI) \
	libmicrohttpd cunit 2>/dev/null)
endif

# ---- what is made of what ----

CORE_SRC := $(wildcard $(addprefix src/,$(addsuffix /*.c,base build check container \
	group image ipc layer library model network oci registry runtime sandbox service \
	session store view)))
CLI_SRC := $(wildcard src/cli/*.c)
KEEPER_SRC := $(wildcard src/keeper/*.c)
PILOT_SRC := $(wildcard src/pilot/*.c)
CHANDLER_SRC := $(wildcard src/chandler/*.c)

# The linker notes that dlopen and getaddrinfo of a static program want the
# C library at hand: SQLite loads no extensions here, and the demo's client
# is content with numbers and /etc/hosts. Anything else it says stays.
STATIC_NOTICE = 2>&1 | { grep -vE 'in function|statically linked' || true; }

object = $(patsubst %.c,$(BUILD)/obj/%.o,$(1))

BIN := $(BUILD)/tidyhull $(BUILD)/tidyhull-keeper $(BUILD)/tidyhull-pilot \
	$(BUILD)/chandler
DEMO_PROGRAMS := $(addprefix $(BUILD)/demo/,gauge almanac ledger booking)
IMAGES := $(BUILD)/demo-images/index.json

all: $(BIN) $(IMAGES) $(BUILD)/shell $(BUILD)/demo-recipes

$(BUILD)/demo-recipes: $(wildcard demo/recipes/*)
	@rm -rf $@
	@mkdir -p $@
	$(Q)install -m 644 demo/recipes/* $@/

# What enter --bring-shell lends to images that have none: a static one.
$(BUILD)/shell: $(BUSYBOX)
	@mkdir -p $(@D)
	$(Q)install -m 755 $< $@

# Without a C library and without sanitizers: a few kilobytes, carried in the
# programs that make containers.
$(BUILD)/reaper: src/reaper/main.c src/base/architecture.h
	@mkdir -p $(@D)
	$(call say,link,$@)
	$(Q)$(CC) $(STANDARD) $(WARNINGS) -Isrc -Wno-pedantic -Os -static -nostdlib \
		-ffreestanding -fno-stack-protector -fno-pic \
		-fno-asynchronous-unwind-tables -Wl,--build-id=none \
		-Wl,-z,noexecstack -s -o $@ $<

$(BUILD)/obj/src/sandbox/reaper.o: $(BUILD)/reaper

$(BUILD)/obj/%.o: %.c
	@mkdir -p $(@D)
	$(call say,cc,$<)
	$(Q)$(CC) $(all_cflags) -MMD -MP -c -o $@ $<

$(BUILD)/libtidyhull.a: $(call object,$(CORE_SRC))
	@rm -f $@
	$(call say,ar,$@)
	$(Q)ar rcs $@ $^

$(BUILD)/tidyhull: $(call object,$(CLI_SRC)) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) $(cli_libs) -lpthread

# Small and static: the linker takes what it needs of the core. With a sanitizer
# its run-time library needs a dynamic program.
$(BUILD)/tidyhull-keeper: $(call object,$(KEEPER_SRC)) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) $(if $(SAN),,-static) -Wl,--gc-sections \
		-Wl,--sort-section=alignment -o $@ $^ -lsqlite3 -ljansson -lseccomp -lm -ldl -lpthread $(STATIC_NOTICE)

$(BUILD)/tidyhull-pilot: $(call object,$(PILOT_SRC)) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -Wl,--gc-sections -o $@ $^ \
		$(LIBS_PILOT) -lpthread

$(BUILD)/chandler: $(call object,$(CHANDLER_SRC)) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ \
		$(shell $(PKG) --libs $(LIBS_CHANDLER))

# ---- demo images ----

$(BUILD)/demo/%: demo/%.c
	@mkdir -p $(@D)
	$(call say,link,$@)
	$(Q)$(CC) $(STANDARD) $(WARNINGS) -Wno-undef -O2 -static -o $@ $< -lm $(STATIC_NOTICE)

$(BUILD)/mkimages: $(call object,demo/mkimages.c) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) -larchive \
		-lpthread

$(IMAGES): $(BUILD)/mkimages $(DEMO_PROGRAMS)
	@rm -rf $(@D) $(@D).new
	$(call say,images,$(@D))
	$(Q)ASAN_OPTIONS=detect_leaks=0 $(RUN) $(BUILD)/mkimages $(@D).new $(BUSYBOX) $(BUILD)/demo
	@mv $(@D).new $(@D)

# ---- set-up, demo, tests ----

deps-build:
	@scripts/deps

deps-check:
	@scripts/deps check

deps-develop:
	@scripts/deps develop

# The set-up may need root; the tour does not.
demo: deps-build
	@$(MAKE) --no-print-directory all
	@$(BUILD)/tidyhull demo $(DEMO_OPTIONS)

check: deps-check
	@$(MAKE) --no-print-directory check-built

include tests/tests.mk

# ---- the library for others ----
#
# The same core, of which only what include/tidyhull/ declares can be seen.

SONAME := libtidyhull.so.0
LIBRARY := $(addprefix $(BUILD)/lib/,libtidyhull.a $(SONAME) tidyhull.pc)
PUBLIC := $(wildcard include/tidyhull/*.h)
pic = $(patsubst %.c,$(BUILD)/pic/%.o,$(1))

library: $(LIBRARY)

$(BUILD)/pic/src/sandbox/reaper.o: $(BUILD)/reaper

$(BUILD)/pic/%.o: %.c
	@mkdir -p $(@D)
	$(call say,pic,$<)
	$(Q)$(CC) $(all_cflags) -fPIC -MMD -MP -c -o $@ $<

$(BUILD)/lib/symbols: $(PUBLIC)
	@mkdir -p $(@D)
	@cat $^ | grep -ohE '\bth_[a-z_]+\(' | tr -d '(' | sort -u >$@

$(BUILD)/lib/$(SONAME): $(call pic,$(CORE_SRC)) $(BUILD)/lib/symbols
	$(call say,link,$@)
	@{ echo '{ global:'; sed 's/$$/;/' $(BUILD)/lib/symbols; \
		echo 'local: *; };'; } >$(BUILD)/lib/versions
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -shared -Wl,-soname,$(SONAME) \
		-Wl,--version-script=$(BUILD)/lib/versions $(if $(SAN),,-Wl,-z,defs) -o $@ \
		$(filter %.o,$^) $(shell $(PKG) --libs $(LIBS_CORE)) -lm -ldl -lpthread
	@ln -sf $(SONAME) $(@D)/libtidyhull.so

$(BUILD)/lib/libtidyhull.a: $(call pic,$(CORE_SRC)) $(BUILD)/lib/symbols
	$(call say,ar,$@)
	@rm -f $@
	$(Q)ld -r -o $(@D)/whole.o $(filter %.o,$^)
	$(Q)objcopy --keep-global-symbols=$(BUILD)/lib/symbols $(@D)/whole.o
	$(Q)ar rcs $@ $(@D)/whole.o
	@rm $(@D)/whole.o

.PHONY: force
# Anew each time: it holds the PREFIX.
$(BUILD)/lib/tidyhull.pc: force
	@mkdir -p $(@D)
	@{ echo 'Name: tidyhull'; \
		echo 'Description: containers without a daemon'; \
		echo 'Version: $(VERSION)'; \
		echo 'Requires: jansson'; \
		echo 'Requires.private: $(LIBS_CORE)'; \
		echo 'Libs: -L$(LIBDIR) -ltidyhull'; \
		echo 'Libs.private: -lm -ldl -lpthread'; \
		echo 'Cflags: -I$(PREFIX)/include'; } >$@

# A front end that has nothing but the library.
$(BUILD)/berths: demo/berths/berths.c $(BUILD)/lib/$(SONAME)
	$(call say,link,$@)
	$(Q)$(CC) $(STANDARD) $(WARNINGS) $(SANFLAGS) $(CFLAGS) -Iinclude -o $@ $< \
		-L$(BUILD)/lib -l:$(SONAME) -ljansson \
		-Wl,-rpath,'$$ORIGIN/lib'

# ---- measurements ----

ROUNDS ?= 5

BENCH_STATIC := $(addprefix $(BUILD)/,floor echo lines)

$(BUILD)/obj/bench/%.o: bench/%.c
	@mkdir -p $(@D)
	$(call say,cc,$<)
	$(Q)$(CC) $(all_cflags) -Ibench -MMD -MP -c -o $@ $<

$(BENCH_STATIC): $(BUILD)/%: bench/%.c
	@mkdir -p $(@D)
	$(call say,link,$@)
	$(Q)$(CC) $(STANDARD) $(WARNINGS) -O2 -static -o $@ $<

$(BUILD)/bench: $(call object,$(filter-out bench/floor.c bench/echo.c bench/lines.c,$(wildcard bench/*.c))) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) -larchive -lpthread

bench: deps-check
	@$(MAKE) --no-print-directory all $(BUILD)/bench $(BENCH_STATIC)
	@$(AS_ROOT) $(BUILD)/bench $(abspath $(BUILD)) $(ROUNDS) $(or $(PART),all) $(JSON)

# ---- installation ----

# Manual pages, of the help and the documents.
man: all
	@scripts/deps man
	$(Q)scripts/man-pages $(BUILD) $(VERSION)

install: all library man
	install -d $(DESTDIR)$(LIBDIR)/pkgconfig \
		$(DESTDIR)$(PREFIX)/include/tidyhull
	install -m 644 $(PUBLIC) $(DESTDIR)$(PREFIX)/include/tidyhull/
	install -m 644 $(BUILD)/lib/libtidyhull.a $(BUILD)/lib/$(SONAME) \
		$(DESTDIR)$(LIBDIR)/
	ln -sf $(SONAME) $(DESTDIR)$(LIBDIR)/libtidyhull.so
	install -m 644 $(BUILD)/lib/tidyhull.pc \
		$(DESTDIR)$(LIBDIR)/pkgconfig/
	install -d $(DESTDIR)$(PREFIX)/bin $(DESTDIR)$(LIBEXECDIR) \
		$(DESTDIR)$(DATADIR) $(DESTDIR)$(PREFIX)/share/doc/tidyhull
	install -m 755 $(BUILD)/tidyhull $(DESTDIR)$(PREFIX)/bin/
	install -m 755 $(BUILD)/tidyhull-keeper $(BUILD)/tidyhull-pilot $(BUILD)/chandler \
		$(BUILD)/shell $(DESTDIR)$(LIBEXECDIR)/
	rm -rf $(DESTDIR)$(DATADIR)/demo-images $(DESTDIR)$(DATADIR)/demo-recipes
	cp -R $(BUILD)/demo-images $(BUILD)/demo-recipes $(DESTDIR)$(DATADIR)/
	chmod -R u=rwX,go=rX $(DESTDIR)$(DATADIR)
	install -d $(DESTDIR)$(DATADIR)/host $(DESTDIR)$(PREFIX)/share/doc/tidyhull/schema
	install -m 644 packaging/host/* $(DESTDIR)$(DATADIR)/host/
	install -m 644 docs/schema/*.json $(DESTDIR)$(PREFIX)/share/doc/tidyhull/schema/
	install -m 644 README.md LICENSE docs/*.md \
		$(DESTDIR)$(PREFIX)/share/doc/tidyhull/
	install -d $(addprefix $(DESTDIR)$(PREFIX)/share/,man/man1 man/man7 \
		bash-completion/completions zsh/site-functions \
		fish/vendor_completions.d)
	install -m 644 $(BUILD)/man/*.1 $(DESTDIR)$(PREFIX)/share/man/man1/
	install -m 644 $(BUILD)/man/*.7 $(DESTDIR)$(PREFIX)/share/man/man7/
	install -m 644 completion/tidyhull.bash \
		$(DESTDIR)$(PREFIX)/share/bash-completion/completions/tidyhull
	install -m 644 completion/_tidyhull \
		$(DESTDIR)$(PREFIX)/share/zsh/site-functions/
	install -m 644 completion/tidyhull.fish \
		$(DESTDIR)$(PREFIX)/share/fish/vendor_completions.d/

# What install has put there; folders that are others', too, stay.
uninstall:
	rm -f $(DESTDIR)$(PREFIX)/bin/tidyhull $(DESTDIR)$(LIBDIR)/$(SONAME) \
		$(addprefix $(DESTDIR)$(LIBDIR)/,libtidyhull.a \
			libtidyhull.so pkgconfig/tidyhull.pc)
	rm -f $(addprefix $(DESTDIR)$(PREFIX)/share/,man/man1/tidyhull.1 \
		man/man1/tidyhull-*.1 man/man7/tidyhull-*.7 \
		bash-completion/completions/tidyhull zsh/site-functions/_tidyhull \
		fish/vendor_completions.d/tidyhull.fish)
	rm -rf $(DESTDIR)$(LIBEXECDIR) $(DESTDIR)$(DATADIR) \
		$(DESTDIR)$(PREFIX)/include/tidyhull \
		$(DESTDIR)$(PREFIX)/share/doc/tidyhull

# Debian packages, in BUILD/deb.
deb:
	@scripts/deps deb
	@scripts/make-deb $(BUILD) $(VERSION)

# ---- for developers ----

ALL_C = $(shell git ls-files -co --exclude-standard '*.c' '*.h')

format:
	clang-format -i $(ALL_C)

format-check:
	@clang-format --dry-run --Werror $(ALL_C)

# Each header compiles alone.
headers:
	@for header in $$(git ls-files -co --exclude-standard 'src/*.h' \
			'include/*.h'); do \
		header=$${header#src/}; echo "#include \"$${header#include/}\"" | \
		$(CC) $(all_cflags) -fsyntax-only -x c - || exit 1; \
	done; echo "headers: each compiles alone"

lint: format-check headers
	@! grep -nE '\b(strcpy|strcat|sprintf|vsprintf|gets|system)\(' \
		$$(git ls-files -co --exclude-standard 'src/*.c') || \
		{ echo "lint: banned calls (above)"; exit 1; }
	@! grep -nE 'ignored = \{0\}.*;$$' \
		$$(git ls-files -co --exclude-standard 'src/*.c') | \
		grep -v '/\*' || \
		{ echo "lint: why these are ignored is not said"; exit 1; }
	@$(MAKE) --no-print-directory $(BUILD)/libtidyhull.a
	@! nm -u $(BUILD)/libtidyhull.a | grep -wE 'printf|puts|exit|getenv' || \
		{ echo "lint: the core prints, ends or asks the environment"; \
		exit 1; }
	@! grep -nE '^#include "' src/cli/*.[ch] | \
		grep -vE '"(cli|base|tidyhull)/' || \
		{ echo "lint: the command line has only the library's headers"; \
		exit 1; }
	@$(MAKE) --no-print-directory $(BUILD)/lib/$(SONAME)
	@nm -D --defined-only $(BUILD)/lib/$(SONAME) | cut -d' ' -f3 | sort | \
		diff - $(BUILD)/lib/symbols || \
		{ echo "lint: the library shows other symbols than its headers"; \
		exit 1; }
	cppcheck --quiet --std=c11 --enable=warning,portability \
		--inline-suppr --error-exitcode=1 \
		--suppress=missingIncludeSystem --suppress=ctuuninitvar --suppress=normalCheckLevelMaxBranches \
		-Iinclude -Isrc -D_GNU_SOURCE -D__x86_64__ src demo

# The compiler's own analysis of all paths: twice freed, used afterwards,
# descriptors and streams left open, calls that signal handlers may not make. What
# gcc 12 says of leaks, NULL and unset values is left out: it does not follow what
# a structure owns, and of 61 such reports none was true.
analyze: export ANALYZE = gcc $(all_cflags) -O2 -Werror -fanalyzer \
	-Wno-analyzer-malloc-leak -Wno-analyzer-null-dereference \
	-Wno-analyzer-null-argument -Wno-analyzer-possible-null-dereference \
	-Wno-analyzer-use-of-uninitialized-value
analyze: deps-check
	@git ls-files -co --exclude-standard 'src/*.c' | grep -v '^src/reaper/' | \
		xargs -P "$$(nproc)" -n 1 sh -c 'eval "$$ANALYZE -c -o /dev/null $$0"'
	@echo "analyze: nothing found"

# For editors: how each file is compiled.
compile-commands: export COMPILE = $(CC) $(all_cflags) -Itests -Ibench
compile-commands:
	@scripts/compile-commands

# Lines that the unit tests reach, by folder. E2E=SUITE... counts what these do
# in the command and the keeper, too.
coverage: deps-check
	@$(MAKE) --no-print-directory COVERAGE=1 all build-cov/unit \
		$(if $(E2E),build-cov/e2e build-cov/manager \
		$(patsubst $(BUILD)/%,build-cov/%,$(INSIDE)))
	@find build-cov -name '*.gcda' -delete
	$(AS_ROOT) build-cov/unit >/dev/null
	$(if $(E2E),$(AS_ROOT) build-cov/e2e $(CURDIR)/build-cov $(E2E) >/dev/null)
	@scripts/coverage build-cov

# What CI does beside the tests. One after the other: each has the machine.
check-more: deps-develop
	@$(MAKE) --no-print-directory WERROR=1 lint
	@$(MAKE) --no-print-directory analyze
	@$(MAKE) --no-print-directory WERROR=1 CC=clang all build-clang/unit \
		build-clang/e2e
	@# gcc warns of what cannot be, where it has put checks in between.
	@$(MAKE) --no-print-directory WERROR= SAN=address,undefined build-san/unit
	$(AS_ROOT) build-san/unit

clean:
	rm -rf build build-* compile_commands.json

help:
	@sed -n 's/^# \{0,1\}//; 1,/^VERSION/p' $(MAKEFILE_LIST) | head -n 16

-include $(shell find $(BUILD)/obj $(BUILD)/pic -name '*.d' 2>/dev/null)

# What is made from the source: the reference of the verbs is what help says,
# the table of system calls is the list of the filter.
docs: docs/verbs.md $(BUILD)/call_table
	$(BUILD)/call_table docs/safety.md

$(BUILD)/obj/scripts/%.o: scripts/%.c
	@mkdir -p $(@D)
	$(call say,cc,$<)
	$(Q)$(CC) $(all_cflags) -Itests -MMD -MP -c -o $@ $<

$(BUILD)/call_table: $(call object,scripts/call_table.c tests/lib/calls.c) \
		$(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) -lpthread

docs/verbs.md: $(BUILD)/tidyhull
	@{ printf '# Verbs\n\nWhat `tidyhull help VERB` says; made by `make '; \
	printf 'docs/verbs.md`.\n\n```\n'; $< help --all; printf '```\n'; \
	for verb in $$($< help --all | sed -n 's/^  \([a-z]*\)  .*/\1/p'); do \
		printf '\n## %s\n\n```\n' $$verb; $< help $$verb; \
		printf '```\n'; done; } >$@
