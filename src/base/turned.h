/* Settings written the other way round, with a colon: OUTSIDE:INSIDE. Here what
 * the container sees stands on the left. For hints only: nothing is taken so.
 */
#ifndef TH_BASE_TURNED_H
#define TH_BASE_TURNED_H

#include <stdbool.h>

#define TH_TURNED_TEXT 260

/* "8080:80" is "80=8080", "127.0.0.1:8080:80/tcp" is "80=127.0.0.1:8080"; false
 * where it is nothing of that kind. */
bool th_turned_port(const char *text, char turned[TH_TURNED_TEXT]);
/* "./site:/srv/www:ro" is "/srv/www=./site,ro", "data:/data" is
 * "/data=volume:data"; "./site=/srv/www" is the wrong way round, too. */
bool th_turned_mount(const char *text, char turned[TH_TURNED_TEXT]);

#endif
