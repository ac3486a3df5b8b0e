/* What a keeper that waits gives back. */
#ifndef TH_KEEPER_SHRINK_H
#define TH_KEEPER_SHRINK_H

/* Gives back what is free of the heap, the stack below the caller, and the
 * pages of the program itself, which come back as they are needed. */
void shrink(void);

#endif
