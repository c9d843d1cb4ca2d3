/* SPDX-License-Identifier: Apache-2.0
 *
 * Do the logs speak of the same motor? What each log says alone is kept as a reading; readings of
 * one parameter are compared at the level of their intervals.
 */
#ifndef CORVAK_IDENT_ESTIMATE_AGREEMENT_H
#define CORVAK_IDENT_ESTIMATE_AGREEMENT_H

#include "model/belief.h"
#include "log/waveforms.h"

#define CVK_MOST_READINGS 400u

typedef struct cvk_reading {
    const char *log;
    int parameter; /* CVK_B_* */
    cvk_path path;
    double value, deviation;
} cvk_reading;

typedef struct cvk_readings {
    size_t count;
    cvk_reading reading[CVK_MOST_READINGS];
} cvk_readings;

typedef struct cvk_agreement {
    bool contradicts;       /* the entry must stay open: `why` names the log that disagrees */
    double lowest, highest; /* of values that differ a little, as a winding's do that warms up;
                               NaN when there is nothing to widen */
    char why[CVK_CARD_TEXT];
} cvk_agreement;

/* Keeps what `belief`, learnt from `log` alone, says of a parameter, when it says something. */
void cvk_add_reading(cvk_readings *readings, const char *log, cvk_path path,
                     const cvk_belief *belief, int parameter);

/* Compares the readings of a parameter; those of other paths than `path` are left out when the
 * parameter is the resistance. */
cvk_agreement cvk_agree(const cvk_readings *all, int parameter, cvk_path path);

#endif
