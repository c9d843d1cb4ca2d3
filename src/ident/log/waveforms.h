/* SPDX-License-Identifier: Apache-2.0
 *
 * A log made ready for estimation: even time base in contiguous pieces, currents calibrated
 * against each other, everything in the stationary alpha-beta plane.
 */
#ifndef CORVAK_IDENT_LOG_WAVEFORMS_H
#define CORVAK_IDENT_LOG_WAVEFORMS_H

#include "corvak/ident/log.h"
#include "corvak/ident/result.h"

typedef struct cvk_span {
    size_t begin, end; /* rows begin .. end-1 */
} cvk_span;

/* Cut every `rows` rows: so many parts, and one of them. */
static inline size_t cvk_parts(cvk_span whole, size_t rows)
{
    return (whole.end - whole.begin + rows - 1u) / rows;
}

static inline cvk_span cvk_part(cvk_span whole, size_t n, size_t rows)
{
    const size_t begin = whole.begin + n * rows, end = begin + rows;
    return (cvk_span){begin, end < whole.end ? end : whole.end};
}

#define CVK_MAX_PIECES 256

/* How the voltages came into the log. */
typedef enum cvk_path {
    CVK_PATH_COMMANDED, /* duty times bus: a switch in series, a dead time, a delay */
    CVK_PATH_MEASURED,  /* at the terminals, one sample a row */
    CVK_PATH_AVERAGED,  /* at the terminals with the switching visible, averaged over its periods */
    CVK_PATHS
} cvk_path;

/* Deviations of delay (periods) and inverter's own voltage (share of the largest voltage) from zero
 * when voltages are averaged over PWM periods that the log shows. */
#define CVK_AVERAGED_DELAY 0.01
#define CVK_AVERAGED_DEAD 1e-3
/* An inverter's own voltage below that is none: then terminal voltages were truly measured. */
#define CVK_SMALLEST_OWN_V 0.05

/* Deviation of the age of a current reading, when it is not stated and when it is, s. */
#define CVK_LATE_DOUBT_S 0.5e-6
#define CVK_STATED_LATE_DOUBT_S 0.05e-6

/* A leg's two edges in its period. Flux linkages less their mean are seen along its phase, and
 * across it. */
typedef struct cvk_edge {
    double rise_wb[2], fall_wb[2];
    double off; /* periods from the middle to each */
} cvk_edge;

/* Voltage that the legs pass on less than the bus had when it was read, per ohm of its capacitor: a
 * symmetric matrix of the current in the stationary plane. */
typedef struct cvk_sag {
    double aa, ab, bb;
} cvk_sag;

/* What the three legs do in a period. */
typedef struct cvk_legs {
    cvk_edge edge[3];
    cvk_sag bus;
} cvk_legs;

typedef struct cvk_waveforms {
    const char *name;
    size_t rows; /* usable rows, in order */
    double period_s;
    double pwm_period_s;      /* as stated, else a row's */
    double *i_alpha, *i_beta; /* A, gains and offsets of the channels aligned */
    double *v_alpha, *v_beta; /* V */
    double *bus_share;        /* bus voltage over its mean; 1 where it is not logged */
    cvk_legs *legs;  /* for each row; null where no duties of each period are known. Filled in by
                        cvk_find_edges() */
    double *time_s;  /* as in the log */
    double *theta_m; /* rad, unwrapped; null without a rotor-angle column */
    double *shaft;   /* cosine and sine of that, 0 where there is a hole; null unless wanted */
    double *speed_m; /* rad/s; null without the column */
    size_t pieces;   /* stretches without a gap; a piece of less than 64 rows is dropped */
    cvk_span piece[CVK_MAX_PIECES];
    cvk_path path;
    double pwm_hz; /* when not 0, voltages are means over PWM periods that the log shows: they act
                       at once and contain the inverter's own */
    double late_s; /* currents are as old as this, as stated, and read while no voltage drives them
                      or all legs are high; 0 where no duties say when that is */
    bool late_unknown;        /* they are read then, and nothing is stated */
    double edge_noise_v;      /* of such a mean, rms, from period to period */
    double voltage_doubt_v;   /* and what stays of that over many periods */
    char cure[CVK_CARD_TEXT]; /* how to record with less doubt */
    bool open_circuit;        /* no current columns: the bridge was off, the currents are zero */
    char terminals[3]; /* between which one voltage and one current were measured; else empty */
    bool two_voltages; /* two channels only: their mismatch cannot be seen */
    double bus_v;      /* mean; 1 when not used */
    double peak_current_a;
    double offset_alpha_a, offset_beta_a; /* taken off the currents already */
    double *storage;                      /* one block behind all of the above */
} cvk_waveforms;

/* Every period of the pulses has a row, and only one. */
bool cvk_row_each_period(const cvk_waveforms *waveforms);

/* Examines and converts. Problems become findings in `out`; CVK_NOT_IN_LOG when the log cannot be
 * used (an error finding says why). Free the result with cvk_waveforms_free() in any case. */
cvk_status cvk_waveforms_from_log(cvk_waveforms *waveforms, const cvk_log *log,
                                  const cvk_estimate_options *options, cvk_estimate *out);

/* The row whose voltage acts at `row` after a delay of `by` rows, kept within `rows`. */
static inline size_t cvk_row_before(size_t row, long by, cvk_span rows)
{
    long wanted = (long)row - by;
    if (wanted < (long)rows.begin) {
        return rows.begin;
    }
    return wanted >= (long)rows.end ? rows.end - 1 : (size_t)wanted;
}

double cvk_largest_voltage(const cvk_waveforms *waveforms, cvk_span rows);

/* The voltages of the rows tell less than the edges that lie between a scope's rows leave open. */
bool cvk_too_coarse(const cvk_waveforms *waveforms, cvk_span rows);

/* Turning without current: what the current columns show is noise, which changes from one row to
 * the next as much as it does over the whole stretch. */
bool cvk_currentless(const cvk_waveforms *waveforms, size_t begin, size_t end);

/* Half the largest value of the index column: above it a mark goes by. */
double cvk_mark_level(const cvk_log *log);

void cvk_waveforms_free(cvk_waveforms *waveforms);

#endif
