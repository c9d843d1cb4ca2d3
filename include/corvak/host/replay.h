/* SPDX-License-Identifier: Apache-2.0
 *
 * A log through the observers of the core: what their angle would have been, how far off it is, and
 * which settings make it best.
 */
#ifndef CORVAK_HOST_REPLAY_H
#define CORVAK_HOST_REPLAY_H

#include "corvak/core/observers_alone.h"
#include "corvak/core/parameters.h"
#include "corvak/ident/card.h"
#include "corvak/ident/replay_rows.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What the angle is compared with. */
typedef enum cvk_replay_reference {
    CVK_REPLAY_COLUMN = 0, /* the log's angle as it is */
    CVK_REPLAY_FITTED,     /* the log's angle, its direction and offset fitted */
    CVK_REPLAY_CONSENSUS   /* none in the log: the mean of the observers */
} cvk_replay_reference;

/* What came of one observer, over the rows in which the rotor turns faster than the least speed and
 * the first turns are past. */
typedef struct cvk_replay_result {
    bool ran;
    double judged_s;                     /* time that was judged */
    double error_rms_rad;                /* of the angle; NaN when nothing was judged */
    double error_95_rad, error_mean_rad; /* 95 % are below; mean: positive is ahead */
    double speed_rms_rad_s;
    double mean_quality; /* the share of rows that should be within 30 degrees, */
    double within_share; /* and that is */
} cvk_replay_result;

typedef struct cvk_replay_trace {
    size_t points;
    double *time_s, *reference_rad, *speed_rad_s; /* speed: of the reference */
    double *angle_rad[CVK_OBSERVER_KINDS], *seen_rad_s[CVK_OBSERVER_KINDS],
        *quality[CVK_OBSERVER_KINDS];
    double *storage;
} cvk_replay_trace;

typedef struct cvk_replay {
    cvk_replay_reference reference;
    double offset_rad; /* fitted: electrical angle at the log's angle zero */
    int direction;     /* fitted: 1 or -1 */
    cvk_replay_result result[CVK_OBSERVER_KINDS];
} cvk_replay;

/* What gains would set, of a power stage of which only the log is known: the largest current of the
 * rows is the limit. `bus_v`: NaN when the log does not tell; then what acted tells. Refusals of
 * cvk_compute_gains(): what the card lacks is in `missing`. CVK_NO_MEMORY. */
cvk_status cvk_replay_settings(const cvk_replay_rows *rows, const cvk_card *card, double bus_v,
                               cvk_settings *out, char missing[CVK_CARD_TEXT]) CVK_MUST_CHECK;

/* Runs the observers whose bit (1 << kind) is set in `which` over the rows. `trace` may be null;
 * else about `points` points of it are kept, to be freed with cvk_replay_trace_free(). Refusals of
 * the settings in `why`; CVK_NO_MEMORY; CVK_NOT_IN_LOG when no row could be judged. */
cvk_status cvk_replay_run(const cvk_replay_rows *rows, const cvk_settings *settings, unsigned which,
                          size_t points, cvk_replay *out, cvk_replay_trace *trace,
                          cvk_refusal *why) CVK_MUST_CHECK;

void cvk_replay_trace_free(cvk_replay_trace *trace);

/* ---- the best settings ----------------------------------------------------------------------- */

#define CVK_SEARCH_KEYS 2   /* observer.bandwidth_rad_s, observer.tracking_bandwidth_rad_s */
#define CVK_SEARCH_POINTS 9 /* of each, about the best */

typedef struct cvk_search {
    cvk_settings best;
    double before_rad,
        after_rad; /* rms error, the worst over the corners of the card's intervals */
    const cvk_parameter *key[CVK_SEARCH_KEYS];
    double value[CVK_SEARCH_KEYS][CVK_SEARCH_POINTS], error_rad[CVK_SEARCH_KEYS][CVK_SEARCH_POINTS];
    unsigned runs; /* through the log */
} cvk_search;

typedef struct cvk_search_wish {
    cvk_observer_kind kind;
    const cvk_card *card; /* or null */
    /* Called now and then with the share that is done; false ends the search. Or null. */
    bool (*progress)(void *context, double share);
    void *context;
} cvk_search_wish;

/* Searches the settings of one observer for the smallest worst error over the corners of the
 * intervals of resistance, inductance and flux linkage on the card (null: +-5 % of each). The log's
 * angle is the reference; without one there is nothing to search for: CVK_NOT_IN_LOG. CVK_STOPPED
 * when `progress` said so. */
cvk_status cvk_replay_search(const cvk_replay_rows *rows, const cvk_settings *settings,
                             const cvk_search_wish *wish, cvk_search *out,
                             cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
