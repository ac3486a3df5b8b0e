/* A model of the host that the tests run on: devices, routes, rules, mounts,
 * settings of the network. */
#ifndef TESTS_HOST_MODEL_H
#define TESTS_HOST_MODEL_H

/* What is there now. */
void host_model_take(void);
/* What has become different since then is printed; how many things. */
int host_model_compare(void);

#endif
