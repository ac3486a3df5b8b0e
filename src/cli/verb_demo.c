#include "cli/verbs.h"
#include "cli/output.h"
static int run(struct invocation *call) { (void)call; return 0; }
const struct verb verb_demo = {.name = "demo", .group = "start here", .summary = "a guided example on made-up data", .usage = "", .run = run};
