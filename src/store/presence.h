/* A database that is not open, and is to be taken for one that is: while the
 * presence lasts nobody takes itself for the last one to close it, and works up
 * its log, or for the first one to open it, and reads all of that. Where SQLite
 * does it in another way, that takes a moment and harms nothing. */
#ifndef TH_STORE_PRESENCE_H
#define TH_STORE_PRESENCE_H

#define TH_PRESENCE_FILES 2

struct th_presence {
	int fds[TH_PRESENCE_FILES]; /* owned, or -1 */
};

void th_presence_init(struct th_presence *presence);
/* While SQLite has the file of that path open. */
void th_presence_begin(struct th_presence *presence, const char *path);
/* While it does not: another file may have its name by now. */
void th_presence_renew(struct th_presence *presence, const char *path);
/* Nothing is kept locked any more; the files stay open. */
void th_presence_end(const struct th_presence *presence);
/* When SQLite has closed its own: this would end SQLite's locks (fcntl(2)). */
void th_presence_release(struct th_presence *presence);

#endif
