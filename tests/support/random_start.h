/* SPDX-License-Identifier: Apache-2.0
 *
 * Starts of motors drawn far outside the studio, each with the gains of a card that is off as cards
 * are: up to a speed, the other way round, and a stop, against a load.
 */
#ifndef CORVAK_TESTS_RANDOM_START_H
#define CORVAK_TESTS_RANDOM_START_H

#include "corvak/core/moment.h"
#include "corvak/rig/config.h"

#include <stdint.h>

/* Saliency 1 .. 4, 3 uH .. 10 mH, 3 mOhm .. 15 Ohm, 1 .. 40 pole pairs, 8 .. 80 kHz, 12 .. 60 V,
 * saturating, with friction and cogging; all evenly or evenly by ratio. */
cvk_rig_config random_motor(uint64_t number);

typedef struct random_start {
    cvk_rig_config bench; /* with the gains */
    double winding_degc;
    double load_share; /* of the limit's torque, load and friction together */
    bool good;         /* up, the other way round, stopped */
    const char *at;    /* how far it came */
    cvk_fault fault;
    cvk_start_reason reason;
    int attempts;
    double took_s;    /* until the first speed was there */
    double current_a; /* largest true phase current */
    /* by the quality of the observer in use, in tenths: rows with the bridge on, and those in which
     * its angle was off by less than 30 degrees */
    double rows[10], within[10];
    char why[256]; /* there are no gains */
} random_start;

typedef struct random_start_options {
    bool exact; /* what the controller knows is right, and the winding at 25 degC */
    bool switched;
    bool blocked;                         /* somebody holds the shaft */
    bool caught;                          /* it turns already */
    double most_load;                     /* of the limit's torque: 0.8 */
    double least_saliency, most_saliency; /* 0: as drawn */
    cvk_observer_kind observer;
    bool trace; /* print what happens */
} random_start_options;

random_start start_random_motor(uint64_t number, const random_start_options *options);

#endif
