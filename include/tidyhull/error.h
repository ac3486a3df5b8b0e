/* What went wrong, why, and what to do next. */
#ifndef TIDYHULL_ERROR_H
#define TIDYHULL_ERROR_H

#ifdef __cplusplus
extern "C" {
#endif

/* What a caller may react to. */
enum th_code {
	TH_OK = 0,
	TH_FAILED, /* anything without a code of its own */
	TH_USAGE, /* the request makes no sense as it was put */
	TH_NOT_FOUND, /* no such object */
	TH_IN_USE, /* in use, or the name is taken */
	TH_NOT_POSSIBLE, /* this host cannot do that */
	TH_NETWORK, /* a registry or the network failed */
	TH_NO_PROGRAM, /* the container's program does not exist */
	TH_NO_EXEC /* the container's program cannot be executed */
};

/* Opaque. The first error that it is given stays, until it is cleared. */
typedef struct th_error th_error;

/* NULL without memory. Every call that takes one also takes NULL. */
th_error *th_error_new(void);
void th_error_free(th_error *error);
void th_error_clear(th_error *error);
/* TH_OK where there is none. */
enum th_code th_error_code(const th_error *error);
/* Lower case, complete enough to be shown alone; several lines where several
 * things are wrong at once. Valid until the error is changed. */
const char *th_error_message(const th_error *error);
/* What to do next; "" where there is nothing to say. */
const char *th_error_hint(const th_error *error);

#ifdef __cplusplus
}
#endif

#endif
