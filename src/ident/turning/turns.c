/* SPDX-License-Identifier: Apache-2.0
 *
 * The electrical turns of a motor without a rotor sensor: the direction of a leaky integral of the
 * voltage turns with the rotor.
 */
#include "turns.h"

#include "corvak/core/units.h"

#include "model/edges.h"
#include "math/parallel.h"

#include <math.h>
#include <stdlib.h>

#define CORNER_HZ 40.0       /* of the leaky integral whose direction marks the turns */
#define MEMORY 10.0          /* of it, in time constants */
#define PART_ROWS 65536u     /* that a thread takes */
#define FLATTEST_QUARTER 3.5 /* slowest quarter of a turn against its fastest */
#define FEWEST_TURNS 4
#define MARGIN_S 0.03 /* kept away from turning, at least, when looking for standstill */
#define SHORTEST_STILL_S 0.03

/* Direction of a leaky integral of the voltage over some rows of a piece, within a turn: it turns
 * with the rotor at every speed, and noise and square waves do not make it turn. With a belief,
 * what the current takes is subtracted first: then a step of the current does not turn it either.
 */
static void find_direction(const cvk_waveforms *s, const cvk_belief *belief, cvk_span piece,
                           cvk_span rows, double *phase)
{
    const double keep = exp(-2.0 * CVK_PI_WIDE * CORNER_HZ * s->period_s);
    const double r = belief != NULL ? belief->mean[CVK_B_RESISTANCE] : 0.0;
    const double l = belief != NULL ? belief->mean[CVK_B_L_Q] : 0.0;
    const double dead_v = belief != NULL ? belief->mean[CVK_B_DEAD_TIME] : 0.0;
    const double knee_a = belief != NULL ? belief->knee_a : 0.0;
    const long delay = belief != NULL ? lround(belief->mean[CVK_B_DELAY]) : 0;
    const size_t memory = (size_t)(MEMORY / (2.0 * CVK_PI_WIDE * CORNER_HZ * s->period_s));
    const size_t begin = rows.begin > piece.begin + memory ? rows.begin - memory : piece.begin;
    const bool own = belief != NULL && dead_v > 0.0 && knee_a > 0.0;
    const cvk_axes axes = belief != NULL ? cvk_mean_axes(belief) : (cvk_axes){0.0, 0.0};
    double complex x = 0.0, i_before = s->i_alpha[begin] + I * s->i_beta[begin];
    double complex e_before = 0.0;
    for (size_t k = begin; k < rows.end; k++) {
        const size_t row = cvk_row_before(k, delay, piece);
        double complex i = s->i_alpha[k] + I * s->i_beta[k];
        double complex e = s->v_alpha[row] + I * s->v_beta[row] - r * i;
        if (own) {
            e -= dead_v * cvk_own_share_at(s, k, knee_a, axes, belief);
        }
        x = keep * (x + s->period_s * e_before) - l * (i - i_before);
        i_before = i;
        e_before = e;
        if (k >= rows.begin) {
            phase[k] = atan2(cimag(x), creal(x));
        }
    }
}

/* Counts the turns of a direction. */
static void unwrap(cvk_span rows, double *phase)
{
    double last = 0.0, turns = 0.0;
    for (size_t k = rows.begin; k < rows.end; k++) {
        turns -= round((phase[k] - last) / (2.0 * CVK_PI_WIDE));
        last = phase[k];
        phase[k] += 2.0 * CVK_PI_WIDE * turns;
    }
}

/* A piece, part by part. */
typedef struct rotation {
    const cvk_waveforms *s;
    const cvk_belief *belief;
    cvk_span piece;
    double *phase;
} rotation;

static bool direction_of_part(void *context, size_t n)
{
    const rotation *r = context;
    find_direction(r->s, r->belief, r->piece, cvk_part(r->piece, n, PART_ROWS), r->phase);
    return true;
}

static void rotate_phase(const cvk_waveforms *s, const cvk_belief *belief, cvk_span piece,
                         int threads, double *phase)
{
    rotation r = {s, belief, piece, phase};
    (void)cvk_for_each(cvk_parts(piece, PART_ROWS), threads, direction_of_part, &r);
    unwrap(piece, phase);
}

double cvk_phase_corner(void)
{
    return 2.0 * CVK_PI_WIDE * CORNER_HZ;
}

double cvk_phase_lead(double omega_rad_s)
{
    return copysign(atan(2.0 * CVK_PI_WIDE * CORNER_HZ / fabs(omega_rad_s)), omega_rad_s);
}

typedef struct quarter_list {
    size_t count;
    size_t *row;
    long *number; /* phase in quarter turns */
} quarter_list;

/* Rows at which the phase enters a new quarter, going on in its direction; going back by less than
 * a quarter does not count. */
static void mark_quarters(const double *phase, cvk_span piece, quarter_list *list)
{
    const double quarter = 0.5 * CVK_PI_WIDE;
    long extreme = (long)floor(phase[piece.begin] / quarter);
    int direction = 0;
    list->count = 0;
    for (size_t k = piece.begin + 1; k < piece.end; k++) {
        long now = (long)floor(phase[k] / quarter);
        if (now == extreme) {
            continue;
        }
        int step = now > extreme ? 1 : -1;
        bool back_by_little = direction != 0 && step != direction && labs(now - extreme) < 2;
        if (back_by_little) {
            continue;
        }
        direction = step;
        extreme = now;
        list->row[list->count] = k;
        list->number[list->count] = now;
        list->count++;
    }
}

/* Four quarters in a row, one after the other, of similar length: a turn. */
static bool is_turn(const quarter_list *list, size_t first)
{
    size_t shortest = (size_t)-1, longest = 0;
    long step = list->number[first + 1] - list->number[first];
    if (labs(step) != 1) {
        return false;
    }
    for (size_t q = first; q < first + 4; q++) {
        size_t length = list->row[q + 1] - list->row[q];
        if (list->number[q + 1] - list->number[q] != step) {
            return false;
        }
        shortest = length < shortest ? length : shortest;
        longest = length > longest ? length : longest;
    }
    return (double)longest < FLATTEST_QUARTER * (double)shortest + 2.0;
}

static void collect_turns(cvk_turns *turns, const quarter_list *list)
{
    size_t q = 0;
    bool joined = false;
    while (q + 4 < list->count) {
        if (!is_turn(list, q)) {
            joined = false;
            q++;
            continue;
        }
        size_t n = turns->count++;
        turns->begin[n] = list->row[q];
        turns->end[n] = list->row[q + 4];
        turns->sign[n] = list->number[q + 1] > list->number[q] ? 1 : -1;
        turns->joined[n] = joined && turns->sign[n] == turns->sign[n - 1];
        joined = true;
        q += 4;
    }
}

/* Drops turns that are not part of at least FEWEST_TURNS joined ones: a standstill test can make
 * the voltage walk round once or twice. */
static void drop_short_runs(cvk_turns *turns)
{
    size_t kept = 0;
    for (size_t first = 0; first < turns->count;) {
        size_t last = first + 1;
        while (last < turns->count && turns->joined[last]) {
            last++;
        }
        if (last - first >= FEWEST_TURNS) {
            for (size_t n = first; n < last; n++, kept++) {
                turns->begin[kept] = turns->begin[n];
                turns->end[kept] = turns->end[n];
                turns->sign[kept] = turns->sign[n];
                turns->joined[kept] = n > first;
            }
        } else if (last - first > turns->dropped) {
            turns->dropped = last - first;
        }
        first = last;
    }
    turns->count = kept;
}

cvk_status cvk_find_turns(cvk_turns *turns, const cvk_waveforms *s, int threads)
{
    *turns = (cvk_turns){0};
    size_t most = s->rows + 1;
    quarter_list list = {.row = malloc(most * sizeof *list.row),
                         .number = malloc(most * sizeof *list.number)};
    turns->phase = malloc(most * sizeof *turns->phase);
    turns->begin = malloc(most / 4 * sizeof *turns->begin + sizeof *turns->begin);
    turns->end = malloc(most / 4 * sizeof *turns->end + sizeof *turns->end);
    turns->sign = malloc(most / 4 + 1);
    turns->joined = calloc(most / 4 + 1, sizeof *turns->joined);
    bool allocated = list.row != NULL && list.number != NULL && turns->phase != NULL &&
                     turns->begin != NULL && turns->end != NULL && turns->sign != NULL &&
                     turns->joined != NULL;
    if (allocated) {
        for (size_t n = 0; n < s->pieces; n++) {
            rotate_phase(s, NULL, s->piece[n], threads, turns->phase);
            mark_quarters(turns->phase, s->piece[n], &list);
            collect_turns(turns, &list);
        }
        drop_short_runs(turns);
    }
    free(list.row);
    free(list.number);
    return allocated ? CVK_OK : CVK_NO_MEMORY;
}

void cvk_remove_offset(cvk_waveforms *s, const cvk_turns *turns)
{
    double alpha = 0.0, beta = 0.0, rows = 0.0;
    for (size_t n = 0; n < turns->count; n++) {
        for (size_t k = turns->begin[n]; k < turns->end[n]; k++) {
            alpha += s->i_alpha[k];
            beta += s->i_beta[k];
            rows += 1.0;
        }
    }
    if (rows > 0.0) {
        s->offset_alpha_a += alpha / rows;
        s->offset_beta_a += beta / rows;
    }
    for (size_t k = 0; k < s->rows && rows > 0.0; k++) {
        s->i_alpha[k] -= alpha / rows;
        s->i_beta[k] -= beta / rows;
    }
}

void cvk_refine_phase(cvk_turns *turns, const cvk_waveforms *s, const cvk_belief *belief,
                      int threads)
{
    const cvk_loss loss = cvk_loss_of(belief);
    cvk_find_all_edges(s, &loss, threads);
    for (size_t n = 0; n < s->pieces; n++) {
        rotate_phase(s, belief, s->piece[n], threads, turns->phase);
    }
}

void cvk_refine_phase_of(cvk_span rows, const cvk_waveforms *s, const cvk_belief *belief,
                         double *phase)
{
    size_t n = 0;
    while (n + 1 < s->pieces && s->piece[n].end <= rows.begin) {
        n++;
    }
    find_direction(s, belief, s->piece[n], rows, phase);
    unwrap(rows, phase);
}

void cvk_turns_free(cvk_turns *turns)
{
    free(turns->phase);
    free(turns->begin);
    free(turns->end);
    free(turns->sign);
    free(turns->joined);
    *turns = (cvk_turns){0};
}

/* What to keep away from a turn when looking for standstill: a motor that speeds up from rest has
 * turned about once before its first whole turn is seen. */
static size_t margin_of(const cvk_waveforms *s, const cvk_turns *turns, size_t turn)
{
    return (size_t)(MARGIN_S / s->period_s) + 2u * cvk_turn_rows(turns, turn);
}

/* Appends begin .. end-1 when that is long enough to be of use. */
static size_t add_span(cvk_span *spans, size_t count, size_t most, size_t begin, size_t end,
                       size_t shortest)
{
    if (count < most && end > begin + shortest) {
        spans[count++] = (cvk_span){begin, end};
    }
    return count;
}

size_t cvk_still_spans(const cvk_waveforms *s, const cvk_turns *turns, cvk_span *spans, size_t most)
{
    const size_t shortest = (size_t)(SHORTEST_STILL_S / s->period_s);
    size_t count = 0, turn = 0;
    for (size_t n = 0; n < s->pieces; n++) {
        size_t begin = s->piece[n].begin, end = s->piece[n].end;
        for (; turn < turns->count && turns->begin[turn] < end; turn++) {
            size_t margin = margin_of(s, turns, turn);
            if (turns->begin[turn] > begin + margin) {
                count = add_span(spans, count, most, begin, turns->begin[turn] - margin, shortest);
            }
            begin = turns->end[turn] + margin;
        }
        count = add_span(spans, count, most, begin, end, shortest);
    }
    return count;
}

void cvk_fit_phase(const double *phase, size_t begin, size_t end, double c[3])
{
    /* orthogonal polynomials on an even grid: 1, x, x^2 - mean(x^2) */
    double n = (double)(end - begin), middle = 0.5 * (n - 1.0);
    double mean2 = (n * n - 1.0) / 12.0, s0 = 0.0, s1 = 0.0, s2 = 0.0, q2 = 0.0;
    for (size_t k = begin; k < end; k++) {
        double x = (double)(k - begin) - middle, y = phase[k], p2 = x * x - mean2;
        s0 += y;
        s1 += x * y;
        s2 += p2 * y;
        q2 += p2 * p2;
    }
    c[2] = q2 > 0.0 ? s2 / q2 : 0.0;
    c[1] = n > 1.0 ? s1 / (n * mean2) : 0.0;
    c[0] = s0 / n - c[2] * mean2;
}
