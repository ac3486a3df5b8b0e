/* libtidyhull: containers without a daemon. */
#ifndef TIDYHULL_TIDYHULL_H
#define TIDYHULL_TIDYHULL_H

#include <tidyhull/container.h>
#include <tidyhull/error.h>
#include <tidyhull/hull.h>
#include <tidyhull/image.h>
#include <tidyhull/place.h>

#endif
