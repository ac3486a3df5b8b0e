# The tests: what they are built of, and how they run. Part of the Makefile.

LIBS_TEST := cunit libarchive
test_libs = $(shell $(PKG) --libs $(LIBS_TEST))
TEST_LIB := tests/lib/suite.c tests/lib/tar.c tests/lib/calls.c \
	tests/lib/bpf.c tests/lib/stepper.c
# Memory that runs out on demand (tests/lib/scarce.h).
SCARCE := $(foreach name,malloc calloc realloc strdup strndup,-Wl,--wrap=$(name))
UNIT_SRC := $(wildcard tests/unit/*.c tests/unit/*/*.c)
E2E_SRC := $(wildcard tests/e2e/*.c)

$(BUILD)/obj/tests/%.o: tests/%.c
	@mkdir -p $(@D)
	$(call say,cc,$<)
	$(Q)$(CC) $(all_cflags) -Itests -MMD -MP -c -o $@ $<

# Shared ones: their own memory does not run out on demand.
shared_libs = $(shell $(PKG) --libs $(LIBS_CORE))

# The keeper's parts are tested one by one; its main() is not.
$(BUILD)/unit: $(call object,$(UNIT_SRC) $(TEST_LIB) tests/lib/scarce.c \
		$(filter-out %/main.c,$(KEEPER_SRC))) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) $(SCARCE) -o $@ $^ $(shared_libs) $(test_libs) \
		-lpthread

$(BUILD)/e2e: $(call object,$(E2E_SRC) $(TEST_LIB)) $(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) $(test_libs) \
		-lpthread

# Run inside containers: static, as their images have nothing.
$(BUILD)/inside/%: tests/inside/%.c
	@mkdir -p $(@D)
	$(call say,link,$@)
	$(Q)$(CC) $(STANDARD) $(WARNINGS) -O2 -static -o $@ $<

# Loaded into the command, to tell it what is not so.
$(BUILD)/preload/%.so: tests/preload/%.c
	@mkdir -p $(@D)
	$(call say,link,$@)
	$(Q)$(CC) $(STANDARD) $(WARNINGS) -O2 -fPIC -shared -o $@ $<

# What stands in for other services.
$(BUILD)/manager: $(call object,tests/standin/manager.c)
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(shell $(PKG) --libs libsystemd)

# With a sanitizer, whatever it finds in a program that a test has started goes
# to a file, which fails the test. (Leaks are looked for in the unit tests: the
# search cannot trace across namespaces.)
SAN_ENV := $(if $(SAN),ASAN_OPTIONS=detect_leaks=0:verify_asan_link_order=0:log_path=/var/tmp/hull-san \
	UBSAN_OPTIONS=print_stacktrace=1:log_path=/var/tmp/hull-san)

# What needs root gets it: the tests make namespaces of their own.
AS_ROOT = $(if $(filter 0,$(shell id -u)),,sudo)

INSIDE := $(patsubst tests/inside/%.c,$(BUILD)/inside/%,$(wildcard tests/inside/*.c)) \
	$(patsubst tests/preload/%.c,$(BUILD)/preload/%.so,$(wildcard tests/preload/*.c))

check-built: all library replay $(BUILD)/berths $(BUILD)/unit $(BUILD)/e2e $(BUILD)/manager $(INSIDE)
	$(AS_ROOT) $(BUILD)/unit
	$(AS_ROOT) env $(SAN_ENV) scripts/check-e2e $(abspath $(BUILD))

# Faults at one of EVERY calls of each verb and program; 1 is all of them, and
# takes hours.
EVERY ?= 1
faults: deps-check
	@$(MAKE) --no-print-directory all $(BUILD)/e2e $(INSIDE)
	$(AS_ROOT) env HULL_EVERY=$(EVERY) $(BUILD)/e2e $(abspath $(BUILD)) faults
	$(AS_ROOT) env HULL_EVERY=$(EVERY) $(BUILD)/e2e $(abspath $(BUILD)) --user \
		faults

# The disk as a power cut leaves it, ROUNDS times.
check-powercut: deps-check
	@$(MAKE) --no-print-directory all
	$(AS_ROOT) scripts/check-powercut $(abspath $(BUILD)) $(or $(ROUNDS),20)

# Three nodes of a batch engine, as namespaces of this host.
check-cluster: deps-cluster
	@$(MAKE) --no-print-directory all $(INSIDE)
	$(AS_ROOT) scripts/debian-image $(BUILD)/passing-image \
		selwick/passing:latest openmpi-bin,libopenmpi3
	$(AS_ROOT) scripts/check-cluster $(abspath $(BUILD))

# The packages in a system of their own (scripts/check-deb).
soak: deps-check
	@$(MAKE) --no-print-directory all
	$(AS_ROOT) scripts/soak $(abspath $(BUILD)) $(or $(MINUTES),120) $(SEED)

check-deb: deb
	@scripts/deps vm
	$(AS_ROOT) scripts/check-deb $(abspath $(BUILD))

# Two builds, each byte the same (scripts/check-reproducible).
check-reproducible:
	@scripts/deps deb
	scripts/check-reproducible

# For another architecture, with its unit tests (scripts/check-cross), and against
# another C library (scripts/check-musl).
check-cross:
	@scripts/deps cross
	scripts/check-cross $(or $(ARCH),arm64)

check-musl:
	@scripts/deps cross
	scripts/check-musl

# On another kernel, with version 2 control groups only (scripts/check-vm).
check-vm: deps-vm
	@$(MAKE) --no-print-directory all $(BUILD)/e2e $(INSIDE)
	scripts/check-vm $(BUILD)
	$(AS_ROOT) scripts/check-vm-systemd $(abspath $(BUILD))

# Only the part about units, logins and restarts.
check-vm-systemd: deps-vm
	@$(MAKE) --no-print-directory all
	$(AS_ROOT) scripts/check-vm-systemd $(abspath $(BUILD))

deps-vm:
	@scripts/deps vm

# With real servers of Debian's.
SERVERS := lighttpd,memcached,dnsmasq-base,cron,firebird3.0-server,firebird3.0-utils
SERVERS := $(SERVERS),jetty9,default-jre-headless,bind9-dnsutils,netcat-openbsd,curl
SERVERS := $(SERVERS),procps,iputils-ping,python3
check-servers: deps-servers
	@$(MAKE) --no-print-directory all $(BUILD)/e2e
	$(AS_ROOT) scripts/debian-image $(BUILD)/server-images \
		selwick/servers:latest $(SERVERS)
	$(AS_ROOT) env $(SAN_ENV) $(BUILD)/e2e $(abspath $(BUILD)) servers
	$(AS_ROOT) env $(SAN_ENV) $(BUILD)/e2e $(abspath $(BUILD)) --user servers

deps-servers:
	@scripts/deps servers

deps-cluster:
	@scripts/deps cluster

.PHONY: check-deb check-reproducible check-cross check-musl
.PHONY: check-vm check-vm-systemd deps-vm check-servers deps-servers \
	check-cluster deps-cluster

# ---- fuzzing ----
#
# The corpus of each target is run with the tests (replay). "make fuzz" builds
# the targets with clang's engine and runs each for FUZZ_SECONDS.

FUZZ := $(patsubst tests/fuzz/fuzz_%.c,%,$(wildcard tests/fuzz/fuzz_*.c))
FUZZ_SECONDS ?= 60
FUZZ_LIB := tests/fuzz/common.c tests/lib/tar.c

$(BUILD)/replay_%: $(BUILD)/obj/tests/fuzz/fuzz_%.o \
		$(call object,tests/fuzz/replay.c $(FUZZ_LIB)) \
		$(BUILD)/libtidyhull.a
	$(call say,link,$@)
	$(Q)$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) -larchive \
		-lpthread

build-fuzz/fuzz_%: tests/fuzz/fuzz_%.c $(FUZZ_LIB) $(CORE_SRC) | $(BUILD)/reaper
	@mkdir -p $(@D)
	$(call say,fuzz,$@)
	$(Q)clang $(STANDARD) $(DEFINES) $(PKG_CFLAGS) -Iinclude -Isrc -Itests -O1 -g \
		-fsanitize=fuzzer,address,undefined -o $@ \
		$(filter %.c,$^) $(core_libs) \
		-larchive -lpthread

.SECONDARY:
.PHONY: replay

replay: $(addprefix $(BUILD)/replay_,$(FUZZ))
	@for target in $(FUZZ); do $(AS_ROOT) env $(SAN_ENV) \
		$(BUILD)/replay_$$target tests/fuzz/corpus/$$target \
		|| exit 1; done

fuzz: $(addprefix build-fuzz/fuzz_,$(FUZZ))
	@for target in $(FUZZ); do mkdir -p build-fuzz/corpus/$$target; \
		echo "== $$target"; build-fuzz/fuzz_$$target -rss_limit_mb=4096 \
		-max_total_time=$(FUZZ_SECONDS) -print_final_stats=0 \
		-verbosity=0 -artifact_prefix=build-fuzz/$$target- \
		build-fuzz/corpus/$$target tests/fuzz/corpus/$$target \
		|| exit 1; done
