/* SPDX-License-Identifier: Apache-2.0
 *
 * The check by hand: the shaft is turned without any torque from the motor, and what the rotor
 * sensors say is held against each other.
 */
#ifndef CORVAK_HOST_HAND_CHECK_H
#define CORVAK_HOST_HAND_CHECK_H

#include "corvak/core/angles.h"
#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

/* One look at the sensors; NaN for one that is not there. */
typedef struct cvk_hand_row {
    double time_s;
    double absolute_rad; /* of the shaft, any number of turns */
    double counts;       /* encoder */
    double index;        /* 1 when the mark went by since the row before */
    double hall;         /* 0 .. 7 */
    double sin_v, cos_v;
} cvk_hand_row;

typedef struct cvk_hand_known {
    unsigned expected;     /* bit n: sensor n is fitted; another one counts only when it moves */
    double pole_pairs;     /* 0: not known */
    double encoder_counts; /* per turn; 0: not known */
    double periods;        /* of sin/cos per turn; 0: one per pole pair */
} cvk_hand_known;

/* What one sensor has shown so far. Turns are those of the shaft; where that is not known (halls
 * and sin/cos without pole pairs) of the field. */
typedef struct cvk_hand_sensor {
    bool seen, moved;   /* it is there; it has changed */
    double angle;       /* now: rad, counts, rad of a period, code */
    double turns;       /* net */
    double most, least; /* of them */
    double way;         /* gone either way */
} cvk_hand_sensor;

#define CVK_HAND_TEXT 200
#define CVK_HAND_FINDINGS 16

typedef struct cvk_hand_finding {
    bool good;
    char text[CVK_HAND_TEXT];
} cvk_hand_finding;

typedef struct cvk_hand_check {
    cvk_hand_known known;
    cvk_hand_sensor sensor[CVK_ROTOR_ANGLE_KINDS];
    double length_s;
    unsigned long rows;
    int code;                                /* hall code now; -1 none yet */
    unsigned codes;                          /* bit n: code n has been seen */
    unsigned long edges, bad_codes, skipped; /* skipped: changes that left a code out */
    unsigned long marks;
    double counts_at_mark, counts_between; /* counts from the mark before to the last one */
    double amplitude_low_v, amplitude_high_v;
    cvk_hand_row last;
    /* the verdict */
    bool consistent;
    unsigned findings;
    cvk_hand_finding finding[CVK_HAND_FINDINGS];
} cvk_hand_check;

void cvk_hand_begin(cvk_hand_check *check, const cvk_hand_known *known);
void cvk_hand_look(cvk_hand_check *check, const cvk_hand_row *row);

/* Fills the findings; `consistent` is true when all of them are good and something moved. */
void cvk_hand_judge(cvk_hand_check *check);

#ifdef __cplusplus
}
#endif
#endif
