/* A real D-Bus, and a stand-in for systemd and logind behind it. */
#ifndef TESTS_BUS_H
#define TESTS_BUS_H

/* Starts both; the session's and the system's bus are this one. options of
 * tests/standin/manager.c, cut at spaces. What it is asked stands in the file
 * manager.out of the test's folder. */
void bus_begin(const char *options);
/* Ends the stand-in alone, as on a host without systemd. */
void bus_end_manager(void);
void bus_end(void);

#endif
