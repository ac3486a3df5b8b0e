/* From the rules of a system-call filter to the kernel's program.
 *
 * For each architecture the numbers of all calls are cut into ranges with the
 * same answer, and the program looks for the range by halves. The kernel walks
 * the program once for every number when it is loaded (seccomp_cache_prepare),
 * so its depth is paid several hundred times at each start: ranges take a third
 * of what a comparison for each call takes. It is written by hand also because
 * libseccomp 2.5 lets everything through that reaches a permitted call by
 * 32-bit socketcall, and loses rules with different answers for one call. */
#include <errno.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

#include "sandbox/call_numbers.h"
#include "sandbox/filter.h"

#define ARCHITECTURES_MAX 32
#define LOW_WORD (__BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__ ? 0 : 4)

/* One rule for one call: the pairs are sorted by number, then rule. */
struct pair {
	uint32_t number;
	const struct th_call_rule *rule;
};

/* From this number on (up to the next range) the answer is the same: that of
 * the pairs, or else the action. */
struct range {
	uint32_t first, action;
	const struct pair *pairs;
	size_t pair_count;
};

struct assembler {
	struct th_buf *program;
	const struct th_seccomp *seccomp;
	struct pair *pairs;
	size_t pair_count, pair_room;
	struct range *ranges;
	size_t range_count;
	uint32_t architectures[ARCHITECTURES_MAX];
	size_t architecture_count;
};

static uint32_t action_value(enum th_call_action action, unsigned int code)
{
	switch (action) {
	case TH_CALL_KILL:
	case TH_CALL_KILL_THREAD:
		return SECCOMP_RET_KILL_THREAD;
	case TH_CALL_KILL_PROCESS:
		return SECCOMP_RET_KILL_PROCESS;
	case TH_CALL_TRAP:
		return SECCOMP_RET_TRAP;
	case TH_CALL_ERRNO:
		return SECCOMP_RET_ERRNO | (code & SECCOMP_RET_DATA);
	case TH_CALL_TRACE:
		return SECCOMP_RET_TRACE | (code & SECCOMP_RET_DATA);
	case TH_CALL_ALLOW:
		return SECCOMP_RET_ALLOW;
	case TH_CALL_LOG:
		return SECCOMP_RET_LOG;
	case TH_CALL_NOTIFY:
		return SECCOMP_RET_USER_NOTIF;
	}
	return SECCOMP_RET_KILL_PROCESS;
}

/* ---- instructions ---- */

static size_t position(const struct assembler *as)
{
	return as->program->len / sizeof(struct sock_filter);
}

static struct sock_filter *instruction(struct assembler *as, size_t at)
{
	return (struct sock_filter *)(void *)as->program->data + at;
}

static void emit(
	struct assembler *as, int code, uint32_t k, size_t yes, size_t no)
{
	struct sock_filter one = {.code = (uint16_t)code,
		.jt = (uint8_t)yes,
		.jf = (uint8_t)no,
		.k = k};

	th_buf_add(as->program, &one, sizeof(one));
}

static void emit_return(struct assembler *as, uint32_t action)
{
	emit(as, BPF_RET | BPF_K, action, 0, 0);
}

static void emit_word(struct assembler *as, unsigned int index, bool high)
{
	size_t offset = offsetof(struct seccomp_data, args) +
		index * sizeof(uint64_t) + (high ? 4 - LOW_WORD : LOW_WORD);

	emit(as, BPF_LD | BPF_W | BPF_ABS, (uint32_t)offset, 0, 0);
}

/* The longest comparison has six instructions and a rule sixteen of them: jumps
 * inside of a rule fit into a byte. */
#define TO_FAIL 255

static void emit_compare(
	struct assembler *as, int code, uint32_t k, size_t yes, size_t no)
{
	emit(as, BPF_JMP | code | BPF_K, k, yes, no);
}

/* Goes on behind it where the argument is above the value (or equal, with
 * "or_equal"), to TO_FAIL where not; "turned" the other way round. */
static void emit_order(struct assembler *as,
	const struct th_call_argument *argument, bool or_equal, bool turned)
{
	uint32_t high = (uint32_t)(argument->value >> 32);
	uint32_t low = (uint32_t)argument->value;

	emit_word(as, argument->index, true);
	emit_compare(as, BPF_JGT, high, turned ? TO_FAIL : 3, 0);
	emit_compare(as, BPF_JEQ, high, 0, turned ? 2 : TO_FAIL);
	emit_word(as, argument->index, false);
	emit_compare(as, or_equal ? BPF_JGE : BPF_JGT, low,
		turned ? TO_FAIL : 0, turned ? 0 : TO_FAIL);
}

static void emit_equal(struct assembler *as,
	const struct th_call_argument *argument, uint64_t mask, uint64_t value,
	bool turned)
{
	for (int high = 1; high >= 0; high--) {
		uint32_t bits = (uint32_t)(high ? mask >> 32 : mask);
		uint32_t want = (uint32_t)(high ? value >> 32 : value);

		emit_word(as, argument->index, high);
		if (bits != UINT32_MAX)
			emit(as, BPF_ALU | BPF_AND | BPF_K, bits, 0, 0);
		/* Unequal (never with a mask): a different high word is enough,
		 * past the two instructions for the low one. */
		if (turned)
			emit_compare(as, BPF_JEQ, want, high ? 0 : TO_FAIL,
				high ? 2 : 0);
		else
			emit_compare(as, BPF_JEQ, want, 0, TO_FAIL);
	}
}

static void emit_condition(
	struct assembler *as, const struct th_call_argument *argument)
{
	switch (argument->op) {
	case TH_CALL_NE:
		emit_equal(as, argument, UINT64_MAX, argument->value, true);
		return;
	case TH_CALL_LT:
		emit_order(as, argument, true, true);
		return;
	case TH_CALL_LE:
		emit_order(as, argument, false, true);
		return;
	case TH_CALL_EQ:
		emit_equal(as, argument, UINT64_MAX, argument->value, false);
		return;
	case TH_CALL_GE:
		emit_order(as, argument, true, false);
		return;
	case TH_CALL_GT:
		emit_order(as, argument, false, false);
		return;
	case TH_CALL_MASKED_EQ:
		emit_equal(as, argument, argument->value, argument->value_two,
			false);
		return;
	}
}

/* The action where all conditions hold; falls through to what comes behind it
 * where one does not. */
static void emit_rule(struct assembler *as, const struct th_call_rule *rule,
	const struct th_call_argument *conditions, size_t count)
{
	size_t start = position(as), end;

	for (size_t i = 0; i < count; i++)
		emit_condition(as, &conditions[i]);
	emit_return(as, action_value(rule->action, rule->error_code));
	end = position(as);
	for (size_t at = start; at < end && !as->program->failed; at++) {
		struct sock_filter *one = instruction(as, at);

		if (one->jt == TO_FAIL)
			one->jt = (uint8_t)(end - at - 1);
		if (one->jf == TO_FAIL)
			one->jf = (uint8_t)(end - at - 1);
	}
}

/* Conditions on one argument cannot be joined by "and" in one rule: then each
 * is a rule of its own, as the specification's readers expect. */
static bool has_twins(const struct th_call_rule *rule)
{
	unsigned int seen = 0;

	for (size_t i = 0; i < rule->argument_count; i++) {
		if (seen & 1u << rule->arguments[i].index)
			return true;
		seen |= 1u << rule->arguments[i].index;
	}
	return false;
}

static void emit_range(struct assembler *as, const struct range *range)
{
	for (size_t i = 0; i < range->pair_count; i++) {
		const struct th_call_rule *rule = range->pairs[i].rule;
		bool apart = has_twins(rule);

		if (!rule->argument_count)
			continue;
		for (size_t k = 0; apart && k < rule->argument_count; k++)
			emit_rule(as, rule, &rule->arguments[k], 1);
		if (!apart)
			emit_rule(as, rule, rule->arguments,
				rule->argument_count);
	}
	emit_return(as, range->action);
}

/* Looks for the range by halves. Not deep: there are as many levels as the
 * number of ranges has binary digits. */
static void emit_ranges(
	struct assembler *as, const struct range *ranges, size_t count)
{
	size_t half = count / 2, jump;

	if (count == 1) {
		emit_range(as, ranges);
		return;
	}
	/* Conditional jumps reach 255 instructions, this one any. */
	emit_compare(as, BPF_JGE, ranges[half].first, 0, 1);
	jump = position(as);
	emit(as, BPF_JMP | BPF_JA, 0, 0, 0);
	emit_ranges(as, ranges, half);
	if (!as->program->failed)
		instruction(as, jump)->k = (uint32_t)(position(as) - jump - 1);
	emit_ranges(as, ranges + half, count - half);
}

/* ---- ranges ---- */

static int by_number(const void *one, const void *two)
{
	const struct pair *a = one, *b = two;

	if (a->number != b->number)
		return a->number < b->number ? -1 : 1;
	return a->rule < b->rule ? -1 : a->rule > b->rule;
}

static int add_pair(struct assembler *as, uint32_t number,
	const struct th_call_rule *rule, struct th_error *err)
{
	if (as->pair_count == as->pair_room) {
		size_t room = as->pair_room ? 2 * as->pair_room : 512;
		struct pair *more =
			realloc(as->pairs, room * sizeof(*as->pairs));

		if (!more)
			return th_fail_memory(err);
		as->pairs = more;
		as->pair_room = room;
	}
	as->pairs[as->pair_count].number = number;
	as->pairs[as->pair_count++].rule = rule;
	return 0;
}

static int add_rule(struct assembler *as, uint32_t architecture,
	const struct th_call_rule *rule, struct th_error *err)
{
	for (size_t i = 0; i < rule->names.count; i++) {
		int64_t number =
			th_call_number(architecture, rule->names.items[i]);

		if (number >= 0 && add_pair(as, (uint32_t)number, rule, err))
			return -1;
	}
	return 0;
}

/* Pairs of all architectures that share the value (x86-64 and x32). */
static int add_pairs(struct assembler *as, uint32_t audit, bool *has_x32,
	struct th_error *err)
{
	as->pair_count = 0;
	for (size_t i = 0; i < as->architecture_count; i++) {
		uint32_t arch = as->architectures[i];

		if (th_architecture_audit(arch) != audit)
			continue;
		*has_x32 |= arch != audit;
		for (size_t k = 0; k < as->seccomp->rule_count; k++) {
			if (add_rule(as, arch, &as->seccomp->rules[k], err))
				return -1;
		}
	}
	if (as->pair_count)
		qsort(as->pairs, as->pair_count, sizeof(*as->pairs), by_number);
	return 0;
}

static void add_range(struct assembler *as, const struct range *range)
{
	const struct range *last = as->ranges + as->range_count - 1;

	/* What was added for the numbers in between has none. */
	if (as->range_count && last->first == range->first) {
		as->range_count--;
		last--;
	}
	if (as->range_count && !last->pair_count && !range->pair_count &&
		last->action == range->action)
		return;
	as->ranges[as->range_count++] = *range;
}

/* The range of one number, from the pairs that it has. */
static struct range range_of(
	const struct assembler *as, size_t at, size_t count, uint32_t otherwise)
{
	struct range range = {as->pairs[at].number, otherwise, NULL, 0};
	bool plain = false;

	for (size_t i = at; i < at + count; i++) {
		const struct th_call_rule *rule = as->pairs[i].rule;

		if (rule->argument_count) {
			range.pairs = &as->pairs[at];
			range.pair_count = count;
		} else if (!plain) {
			plain = true;
			range.action =
				action_value(rule->action, rule->error_code);
		}
	}
	return range;
}

static int make_ranges(
	struct assembler *as, bool x32, uint32_t bad, struct th_error *err)
{
	uint32_t usual = action_value(
		as->seccomp->default_action, as->seccomp->default_code);
	struct range gap = {0, usual, NULL, 0};

	free(as->ranges);
	as->range_count = 0;
	as->ranges = calloc(2 * as->pair_count + 3, sizeof(*as->ranges));
	if (!as->ranges)
		return th_fail_memory(err);
	add_range(as, &gap);
	for (size_t i = 0; i < as->pair_count;) {
		size_t count = 1;
		struct range one;

		while (i + count < as->pair_count &&
			as->pairs[i + count].number == as->pairs[i].number)
			count++;
		one = range_of(as, i, count, usual);
		add_range(as, &one);
		gap.first = as->pairs[i].number + 1;
		add_range(as, &gap);
		i += count;
	}
	if (!x32) {
		gap.first = TH_CALL_X32;
		gap.action = bad;
		add_range(as, &gap);
	}
	return 0;
}

/* ---- the whole ---- */

static int add_block(struct assembler *as, uint32_t audit, uint32_t bad,
	struct th_error *err)
{
	bool x32 = false;
	size_t jump;

	if (add_pairs(as, audit, &x32, err) || make_ranges(as, x32, bad, err))
		return -1;
	emit_compare(as, BPF_JEQ, audit, 1, 0);
	jump = position(as);
	emit(as, BPF_JMP | BPF_JA, 0, 0, 0);
	emit(as, BPF_LD | BPF_W | BPF_ABS, offsetof(struct seccomp_data, nr), 0,
		0);
	emit_ranges(as, as->ranges, as->range_count);
	if (!as->program->failed)
		instruction(as, jump)->k = (uint32_t)(position(as) - jump - 1);
	return 0;
}

/* The native one is always there. */
static int read_architectures(struct assembler *as, struct th_error *err)
{
	const struct th_strings *names = &as->seccomp->architectures;

	as->architectures[0] = th_architecture_native();
	as->architecture_count = 1;
	for (size_t i = 0; i < names->count; i++) {
		uint32_t arch = th_architecture_find(names->items[i]);

		/* A kernel of this one never runs it. */
		if (!arch && th_architecture_is_foreign(names->items[i]))
			continue;
		if (!arch)
			return th_fail(err, TH_NOT_POSSIBLE,
				"linux.seccomp names the unknown architecture "
				"\"%.60s\"",
				names->items[i]);
		if (as->architecture_count < ARCHITECTURES_MAX)
			as->architectures[as->architecture_count++] = arch;
	}
	return 0;
}

/* True where a block for it was made already. */
static bool is_done(const struct assembler *as, size_t index)
{
	for (size_t i = 0; i < index; i++) {
		if (th_architecture_audit(as->architectures[i]) ==
			th_architecture_audit(as->architectures[index]))
			return true;
	}
	return false;
}

int th_filter_compile(const struct th_seccomp *seccomp, struct th_buf *program,
	struct th_error *err)
{
	struct assembler as = {.program = program, .seccomp = seccomp};
	/* A call of an ABI that the rules do not name fails as on a kernel that
	 * was built without it. To kill the thread would leave a process that
	 * waits for it for ever. */
	const uint32_t bad = SECCOMP_RET_ERRNO | ENOSYS;
	int rc = read_architectures(&as, err);

	emit(&as, BPF_LD | BPF_W | BPF_ABS, offsetof(struct seccomp_data, arch),
		0, 0);
	for (size_t i = 0; i < as.architecture_count && rc == 0; i++) {
		if (!is_done(&as, i))
			rc = add_block(&as,
				th_architecture_audit(as.architectures[i]), bad,
				err);
	}
	emit_return(&as, bad);
	if (rc == 0 && (program->failed || program->len > TH_FILTER_MAX))
		rc = th_fail(err, TH_NOT_POSSIBLE,
			"linux.seccomp has more rules than the kernel takes");
	free(as.pairs);
	free(as.ranges);
	return rc;
}
