/* What a process of ours that lives long may still do: a bound for its whole
 * life, and between its works hardly anything. Capabilities belong to threads;
 * these functions are about the calling one and those that it starts. */
#ifndef TH_SANDBOX_RIGHTS_H
#define TH_SANDBOX_RIGHTS_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

/* Gives up all capabilities but those of the set, for itself and whatever it
 * executes. no_new: no program can give it others either. */
int th_rights_bound(uint64_t keep, bool no_new, struct th_error *err);

/* Lowers the effective ones to those of the set; before the first call neither
 * of these does anything. Raised again, they are what the bound left. */
void th_rights_lower(uint64_t idle);
void th_rights_raise(void);
/* None at all, for the calling thread and for ever. */
void th_rights_drop(void);
/* Back to what it was lowered to last. */
void th_rights_rest(void);

/* Others are ended first when memory runs out, if the kernel lets itself be
 * told: that takes CAP_SYS_RESOURCE. Returns the score that something has which
 * is to be ended before this process: children begin with that of their parent.
 */
int th_rights_outlive(void);

#endif
