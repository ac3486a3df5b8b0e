/* libtidyhull: containers without a daemon. */
#ifndef TIDYHULL_TIDYHULL_H
#define TIDYHULL_TIDYHULL_H

#include <tidyhull/container.h>
#include <tidyhull/error.h>
#include <tidyhull/group.h>
#include <tidyhull/hull.h>
#include <tidyhull/image.h>
#include <tidyhull/object.h>
#include <tidyhull/oci.h>
#include <tidyhull/place.h>
#include <tidyhull/registry.h>
#include <tidyhull/talk.h>
#include <tidyhull/unit.h>

#endif
