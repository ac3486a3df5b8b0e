#include "keeper/shrink.h"

#include <link.h>
#include <malloc.h>
#include <stdint.h>
#include <sys/mman.h>
#include <unistd.h>

#include "base/libc.h"

/* As deep as the work before it may have gone. */
#define STACK_BYTES (128u * 1024)
/* What two small functions take of the stack, and much more; with a sanitizer
 * they take more. */
#ifdef __SANITIZE_ADDRESS__
#define FRAMES_BYTES 8192
#else
#define FRAMES_BYTES 1024
#endif

/* Code and constants are the same as in the file. Most of them were only needed
 * for the start, and would count, mapped into each of a hundred keepers, as a
 * hundredth for each. Nothing that was written to is among them. */
static int drop_unwritten(struct dl_phdr_info *program, size_t size, void *arg)
{
	uintptr_t page = (uintptr_t)sysconf(_SC_PAGESIZE);

	(void)size;
	(void)arg;
	for (int i = 0; i < program->dlpi_phnum; i++) {
		const ElfW(Phdr) *part = &program->dlpi_phdr[i];
		uintptr_t begin = program->dlpi_addr + part->p_vaddr;
		uintptr_t end = begin + part->p_memsz;

		begin += page - 1;
		begin -= begin % page;
		end -= end % page;
		if (part->p_type == PT_LOAD && !(part->p_flags & PF_W) &&
			begin < end)
			madvise((void *)begin, end - begin, MADV_DONTNEED);
	}
	/* The program itself, and no library. */
	return 1;
}

void shrink(void)
{
	uintptr_t page = (uintptr_t)sysconf(_SC_PAGESIZE);
	char *here = (char *)__builtin_frame_address(0) - FRAMES_BYTES;
	char *end = here - (uintptr_t)here % page;

	malloc_trim(0);
	/* Below the frames of this function and of madvise(). */
	madvise(end - STACK_BYTES, STACK_BYTES, MADV_DONTNEED);
	dl_iterate_phdr(drop_unwritten, NULL);
}
