/* What pictures for terminals are made of: with block characters where the
 * locale has them, with ASCII where not. */
#ifndef CLI_DRAW_H
#define CLI_DRAW_H

#include <stdbool.h>
#include <stddef.h>

/* True where the locale's characters are UTF-8. */
bool draws_blocks(void);

/* How many columns there are: those of the terminal, or 80 in a pipe. */
int draw_columns(void);

/* One character whose height says how much of 0 to 1 it is; the lowest for what
 * is above nothing. */
const char *draw_level(double part);

/* A bar of so many characters, filled to its part of 0 to 1. */
#define BAR_TEXT 256
void draw_bar(double part, int width, char text[BAR_TEXT]);

/* The text in so many columns of the terminal: what is too long loses its
 * middle, as names often differ at the end. */
void draw_middle(const char *name, int width, char text[BAR_TEXT]);

#endif
