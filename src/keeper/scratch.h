/* Memory for what comes and goes: documents and the database. It lies apart, so
 * that what stays for as long as the container runs is not scattered among what
 * was there for a moment, and all of it goes back when nothing is left in it.
 */
#ifndef TH_KEEPER_SCRATCH_H
#define TH_KEEPER_SCRATCH_H

/* Before anything else of jansson or SQLite is called. Without memory for it
 * all is as before. */
void scratch_begin(void);
/* Gives back what is not in use. */
void scratch_trim(void);

#endif
