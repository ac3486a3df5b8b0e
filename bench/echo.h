/* What the server of the port measurements and its client agree on. */
#ifndef BENCH_ECHO_H
#define BENCH_ECHO_H

#define ECHO_BYTES 64

#endif
