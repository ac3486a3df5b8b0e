/* The words of settings, as the library knows them. */
#ifndef CLI_WORDS_H
#define CLI_WORDS_H

#include <jansson.h>
#include <stdbool.h>

/* All of them: {"name", "kind", "joins"} each (tidyhull/container.h); valid
 * until the program ends. */
const json_t *setting_words(void);
/* The one of the name, or NULL. */
const json_t *setting_word(const char *name);
bool is_kind(const json_t *word, const char *kind);
bool joins(const json_t *word, const char *how);

/* Two values of a setting that "joins" by places: true where the container sees
 * both at the same place. That ends at the first "="; of a port the protocol
 * counts, too. */
bool is_same_place(const char *one, const char *other);

#endif
