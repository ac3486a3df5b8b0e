# The tests: what they are built of, and how they run. Part of the Makefile.

LIBS_TEST := cunit
test_libs = $(shell $(PKG) --libs $(LIBS_TEST))
TEST_LIB := $(wildcard tests/lib/*.c)
UNIT_SRC := $(wildcard tests/unit/*.c tests/unit/*/*.c)
E2E_SRC := $(wildcard tests/e2e/*.c)

$(BUILD)/obj/tests/%.o: tests/%.c
	@mkdir -p $(@D)
	$(CC) $(all_cflags) -Itests -MMD -MP -c -o $@ $<

$(BUILD)/unit: $(call object,$(UNIT_SRC) $(TEST_LIB)) $(BUILD)/libtidyhull.a
	$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) $(test_libs) \
		-lpthread

$(BUILD)/e2e: $(call object,$(E2E_SRC) $(TEST_LIB)) $(BUILD)/libtidyhull.a
	$(CC) $(SANFLAGS) $(LDFLAGS) -o $@ $^ $(core_libs) $(test_libs) \
		-lpthread

# What needs root gets it: the tests make namespaces of their own.
AS_ROOT = $(if $(filter 0,$(shell id -u)),,sudo)

check-built: all $(BUILD)/unit $(BUILD)/e2e
	$(AS_ROOT) $(BUILD)/unit
	$(AS_ROOT) $(BUILD)/e2e $(abspath $(BUILD))
