/* SPDX-License-Identifier: Apache-2.0
 *
 * Random cases of a motor without a rotor sensor: rotor position, temperature, load, and what the
 * controller believes of the motor, each off by up to 10 %.
 */
#ifndef CORVAK_TESTS_SENSORLESS_CASE_H
#define CORVAK_TESTS_SENSORLESS_CASE_H

#include "corvak/core/moment.h"
#include "corvak/rig/config.h"

#include <stdint.h>

typedef enum sensorless_what {
    CASE_START = 0, /* from rest to 30 % of the rated speed, no load */
    CASE_LOADED,    /* the same against a brake of 30 % of the rated torque */
    CASE_BLOCKED,   /* somebody holds the shaft: it has to fail, and say so */
    CASE_CATCH,     /* it turns already: any speed up to the rated one, either way */
    CASE_BLIND,     /* the same without the terminals being measured */
    CASE_ANGLE,     /* 10 .. 100 % of the rated speed and up to 30 % load; what is known is right */
    CASE_ANGLE_10,  /* the same, and what is known is off by up to 10 % */
    CASE_SLOW,      /* 2 % of the rated speed, no load or 30 %: the mean speed within 5 % */
    CASE_REVERSE,   /* from 60 % one way to 60 % the other */
    CASE_TORQUE,    /* at 40 %: no torque, then in one step all that the limit allows, and back */
    CASE_TURNS,     /* 1000 turns of the shaft at the rated speed, counted */
    /* with injection in the tune */
    CASE_STILL, /* from rest at speed zero, then 90 % of the limit's torque pulls; then 0.5 rpm */
    CASE_HELD,  /* somebody holds the shaft of a running motor for ten seconds, and lets go */
    CASE_BAND,  /* through the handover between injection and observer, up and down, 40 % load */
    CASE_CREEP, /* a turn of the shaft at 0.1 rpm: never back by more than 2 degrees */
    CASES
} sensorless_what;

/* As on the command line: start, loaded, ... */
extern const char *const sensorless_names[CASES];

typedef struct sensorless_outcome {
    bool good;
    cvk_fault fault;
    cvk_start_reason reason;
    double took_s, backward_rad; /* electrical, until the speed is there */
    double current_a, caught_a;  /* largest true phase current; and until it has been caught */
    double angle_rms_rad;        /* of the angle in use; CASE_ANGLE and up */
    double speed_off;            /* share, of the mean speed; CASE_SLOW */
    double angle_peak_rad;       /* CASE_STILL, CASE_HELD */
    double back_mech_rad;        /* farthest that the shaft went back; CASE_CREEP */
    double bump;                 /* share of the limit's torque, at a handover; CASE_BAND */
    double slip_mech_rad;        /* of the counted position; CASE_TURNS */
    /* by the quality of the observer in use, 0 .. 1 in tenths: rows, sum of the quality, rows in
     * which its angle was off by less than 30 degrees */
    double rows[10], quality[10], within[10];
} sensorless_outcome;

/* The rated speed is taken as 60 % of that without load, electrical; the rated current as the
 * limit. */
double sensorless_rated(const cvk_rig_config *bench);

/* Case number `k` of a kind: `bench` has the tune of its own motor. */
sensorless_outcome sensorless_case(const cvk_rig_config *bench, sensorless_what what, unsigned k);

#endif
