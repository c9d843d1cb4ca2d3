/* SPDX-License-Identifier: Apache-2.0
 *
 * A ladder of speeds: how well a motor keeps each, and the lowest and highest that it keeps.
 */
#ifndef CORVAK_HOST_LADDER_H
#define CORVAK_HOST_LADDER_H

#include "corvak/host/run.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_LADDER_MOST 24

typedef struct cvk_ladder_options {
    double rated_rad_s; /* electrical */
    bool up;            /* from half of it upwards, or downwards */
    double within;      /* share of the speed that the mean may be off by */
    double ripple;      /* and rms about it */
    double spacing_s;   /* of the rows: cvk_run_plan */
} cvk_ladder_options;

/* 5 % and 20 %. */
cvk_ladder_options cvk_ladder_options_default(void);

typedef struct cvk_rung {
    cvk_run_result run;
    bool seen;   /* false: by the vector, with nothing that tells whether the rotor follows */
    bool usable; /* reached, kept by the criterion, and seen */
} cvk_rung;

typedef struct cvk_ladder {
    size_t count; /* rungs that were tried; the last one is the first that is not usable, if any */
    cvk_rung rung[CVK_LADDER_MOST];
    double farthest_rad_s; /* the last usable speed, electrical; 0: none */
    cvk_fault fault;       /* that ended it */
} cvk_ladder;

/* Walks a device that is at rest, and stops it. What the walk ends with is the answer, a fault
 * included; other statuses are what the session says. `progress` may be null; false ends the walk.
 */
cvk_status cvk_ladder_walk(cvk_device *device, const cvk_ladder_options *options,
                           bool (*progress)(void *context, double share), void *context,
                           cvk_ladder *out) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
