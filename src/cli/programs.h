/* Where the other programs and files of an installation are: beside this one,
 * as in the build folder, or where make install puts them. */
#ifndef CLI_PROGRAMS_H
#define CLI_PROGRAMS_H

#include <stdbool.h>

#define PROGRAM_PATH 4096

/* The path of a program that people do not call; true where it is there. */
bool program_path(const char *name, char path[PROGRAM_PATH]);
/* The folder of the demo images (an OCI image layout). */
bool demo_images_path(char path[PROGRAM_PATH]);
/* The folder of the demo recipes. */
bool demo_recipes_path(char path[PROGRAM_PATH]);
/* This program itself. */
bool own_path(char path[PROGRAM_PATH]);

#endif
