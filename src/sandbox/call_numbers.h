/* System calls of an architecture: their numbers by name. */
#ifndef TH_SANDBOX_CALL_NUMBERS_H
#define TH_SANDBOX_CALL_NUMBERS_H

#include <stdbool.h>
#include <stdint.h>

/* Numbers from here on belong to x32, which shares its architecture's value
 * with x86-64. */
#define TH_CALL_X32 0x40000000u

/* An architecture as libseccomp numbers them: the one that this program runs
 * on, that of an OCI name ("SCMP_ARCH_X86"; 0 where there is none), and the
 * value that the kernel gives to filters (AUDIT_ARCH_...). */
uint32_t th_architecture_native(void);
uint32_t th_architecture_find(const char *name);
/* True for one that is known, but whose calls libseccomp may not know. */
bool th_architecture_is_foreign(const char *name);
uint32_t th_architecture_audit(uint32_t architecture);

/* The number of the call, or -1 where the architecture has none of the name. */
int64_t th_call_number(uint32_t architecture, const char *name);

#endif
