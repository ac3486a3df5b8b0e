/* Memory for what comes and goes: documents and the database. It lies apart, so
 * that what stays for as long as the container runs is not scattered among what
 * was there for a moment, and all of it goes back when nothing is left in it.
 */
#ifndef TH_KEEPER_SCRATCH_H
#define TH_KEEPER_SCRATCH_H

/* The alignment of large buffers. The linker puts them behind one another and
 * what is small together (see the Makefile): a page of a buffer that is not
 * used takes no memory, and small variables do not take one each. */
#define APART 4096

/* Before anything else of jansson or SQLite is called. Without memory for it
 * all is as before. */
void scratch_begin(void);
/* Gives back what is not in use. */
void scratch_trim(void);

#endif
