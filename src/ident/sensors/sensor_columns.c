/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading the rotor sensors of a log.
 */
#include "sensor_columns.h"

#include "corvak/core/units.h"

#include "corvak/core/halls.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#define TWO_PI (2.0 * CVK_PI_WIDE)
#define COUNTER_SPAN 65536.0 /* a 16-bit counter starts anew behind it */
#define SETTLED_ROWS 3       /* a hall code that stays so long is no bounce */
#define LONGEST_BOUNCE_S 5e-4

size_t *cvk_rows_in_log(const cvk_waveforms *s, const cvk_log *log)
{
    const double *t = log->column[CVK_COLUMN_T];
    size_t *row = malloc((s->rows + 1) * sizeof *row), r = 0;
    for (size_t k = 0; row != NULL && t != NULL && k < s->rows; k++) {
        const double now = s->time_s[k];
        while (r + 1 < log->rows && !(fabs(t[r] - now) <= fabs(t[r + 1] - now))) {
            r++;
        }
        row[k] = r;
    }
    return row;
}

/* An angle that starts anew every `wrap`, going on. */
static void unwrap(double *x, size_t rows, double wrap)
{
    double turns = 0.0, last = NAN;
    for (size_t k = 0; k < rows; k++) {
        const double now = x[k];
        if (!isfinite(now)) {
            continue;
        }
        turns -= isfinite(last) ? wrap * round((now - last) / wrap) : 0.0;
        last = now;
        x[k] = now + turns;
    }
}

/* A 16-bit counter's start from below is no movement. */
static void unwrap_counter(double *x, size_t rows)
{
    double added = 0.0, last = NAN;
    for (size_t k = 0; k < rows; k++) {
        const double now = x[k];
        if (fabs(now - last) > 0.75 * COUNTER_SPAN) {
            added -= COUNTER_SPAN * round((now - last) / COUNTER_SPAN);
        }
        last = isfinite(now) ? now : last;
        x[k] = now + added;
    }
}

static void measure(cvk_sensor_column *c, size_t rows)
{
    double low = INFINITY, high = -INFINITY, last = NAN;
    c->step_rad = INFINITY;
    for (size_t k = 0; k < rows; k++) {
        const double x = c->angle_rad[k], step = fabs(x - last);
        if (!isfinite(x)) {
            c->bad++;
            continue;
        }
        c->first_rad = isfinite(last) ? c->first_rad : x;
        low = fmin(low, x);
        high = fmax(high, x);
        if (step > 1e-12) {
            c->step_rad = fmin(c->step_rad, step);
        }
        last = x;
    }
    c->span_rad = high > low ? high - low : 0.0;
    c->stuck = !(c->span_rad > 0.0);
    c->step_rad = isfinite(c->step_rad) ? c->step_rad : 0.0;
}

static void read_scaled(cvk_sensor_column *c, const double *from, const size_t *row, size_t rows,
                        double scale)
{
    for (size_t k = 0; k < rows; k++) {
        c->angle_rad[k] = scale * from[row[k]];
    }
}

static cvk_status read_sincos(cvk_sensor_column *c, const cvk_log *log, const size_t *row,
                              size_t rows)
{
    const double *s = log->column[CVK_COLUMN_SIN], *q = log->column[CVK_COLUMN_COS];
    c->sin_v = malloc((rows + 1) * sizeof(double));
    c->cos_v = malloc((rows + 1) * sizeof(double));
    if (c->sin_v == NULL || c->cos_v == NULL) {
        return CVK_NO_MEMORY;
    }
    for (size_t k = 0; k < rows; k++) {
        c->sin_v[k] = s[row[k]];
        c->cos_v[k] = q[row[k]];
        c->angle_rad[k] = atan2(s[row[k]], q[row[k]]);
    }
    return CVK_OK;
}

/* ---- halls ---------------------------------------------------------------------------------- */

/* Code of a row; 8 when there is none. */
static int code_at(const cvk_log *log, size_t row)
{
    const double *word = log->column[CVK_COLUMN_HALL];
    if (word != NULL) {
        return word[row] >= 0.0 && word[row] <= 7.0 ? (int)lround(word[row]) : 8;
    }
    int code = 0;
    for (int n = 0; n < 3; n++) {
        const double level = log->column[CVK_COLUMN_HALL_A + n][row];
        if (!isfinite(level)) {
            return 8;
        }
        code |= level > 0.5 ? 1 << n : 0;
    }
    return code;
}

/* The way from one sector to another: 1, -1, or 0 when they are not neighbours. */
static int way_between(int from, int to)
{
    const int step = (to - from + 6) % 6;
    return step == 1 ? 1 : (step == 5 ? -1 : 0);
}

/* Collects the edges of one piece. A code counts once it has stayed for a few rows, or when the
 * next but one follows in the same direction; the edge lies where it was first seen. */
/* Back and forth between two sectors for a while, from the beginning of `rows` on; what it comes to
 * counts. Returns the row of the last change. */
static size_t bounce(const unsigned char *sector, cvk_span rows, int now, size_t bounce_rows,
                     int *last)
{
    const int next = *last;
    size_t last_change = rows.begin;
    for (size_t k = rows.begin + 1; k < rows.end && k - last_change <= bounce_rows; k++) {
        if (sector[k] != *last && sector[k] != now && sector[k] != next) {
            break;
        }
        last_change = sector[k] != *last ? k : last_change;
        *last = sector[k];
    }
    return last_change;
}

static void edges_of_piece(cvk_sensor_column *c, const unsigned char *sector, cvk_span piece,
                           size_t number, size_t bounce_rows)
{
    int now = -1;
    size_t k = piece.begin;
    while (k < piece.end && sector[k] > 5) {
        k++;
    }
    now = k < piece.end ? sector[k] : -1;
    for (; k < piece.end; k++) {
        const int next = sector[k];
        const int way = next > 5 ? 0 : way_between(now, next);
        if (next == now || next > 5) {
            continue;
        }
        if (way == 0) { /* one was missed: go on from here, without an edge */
            size_t stays = 0;
            while (k + stays < piece.end && sector[k + stays] == next) {
                stays++;
            }
            now = stays >= SETTLED_ROWS ? next : now;
            continue;
        }
        int last = next;
        const size_t last_change =
            bounce(sector, (cvk_span){k, piece.end}, now, bounce_rows, &last);
        c->bounces += last_change > k;
        if (last == now) { /* it only flickered */
            k = last_change;
            continue;
        }
        c->edge[c->edges++] =
            (cvk_hall_edge){(double)k - 0.5, way > 0 ? now : (now + 5) % 6, way, number};
        now = next;
        k = last_change;
    }
}

/* Straight lines from edge to edge; a sector before the first and after the last edge, and one that
 * is entered and left on the same side, stay open. */
static void lines_between_edges(cvk_sensor_column *c, size_t rows)
{
    for (size_t k = 0; k < rows; k++) {
        c->angle_rad[k] = NAN;
    }
    for (size_t n = 0; c->edge != NULL && n + 1 < c->edges; n++) {
        const cvk_hall_edge *a = &c->edge[n], *b = &c->edge[n + 1];
        if (a->piece != b->piece) {
            continue;
        }
        const double from = cvk_hall_edge_angle(a->edge);
        double to = cvk_hall_edge_angle(b->edge);
        to += TWO_PI * round((from - to) / TWO_PI);
        if (a->way != b->way || fabs(to - from) > 1.5 * CVK_PI_WIDE / 3.0) {
            continue;
        }
        for (size_t k = (size_t)ceil(a->row); (double)k < b->row; k++) {
            const double share = ((double)k - a->row) / (b->row - a->row);
            c->angle_rad[k] = from + share * (to - from);
        }
    }
    unwrap(c->angle_rad, rows, TWO_PI);
}

static cvk_status read_halls(cvk_sensor_column *c, const cvk_waveforms *s, const cvk_log *log,
                             const size_t *row)
{
    unsigned char *sector = malloc(s->rows + 1);
    c->edge = calloc(s->rows + 1, sizeof *c->edge);
    if (sector == NULL || c->edge == NULL) {
        free(sector);
        return CVK_NO_MEMORY;
    }
    size_t bad = 0;
    for (size_t k = 0; k < s->rows; k++) {
        const int code = code_at(log, row[k]);
        c->hall_seen |= 1u << code;
        bad += cvk_hall_sector(code) < 0;
        sector[k] = cvk_hall_sector(code) < 0 ? 255 : (unsigned char)cvk_hall_sector(code);
    }
    const size_t bounce_rows = (size_t)fmax(2.0, LONGEST_BOUNCE_S / s->period_s);
    for (size_t n = 0; n < s->pieces; n++) {
        edges_of_piece(c, sector, s->piece[n], n, bounce_rows);
    }
    free(sector);
    lines_between_edges(c, s->rows);
    measure(c, s->rows);
    c->stuck = c->edges == 0;
    c->step_rad = CVK_PI_WIDE / 3.0;
    c->bad = bad;
    return CVK_OK;
}

/* ---- each kind ------------------------------------------------------------------------------ */

static bool in_log(const cvk_log *log, cvk_rotor_kind kind)
{
    switch (kind) {
    case CVK_ROTOR_HALLS:
        return cvk_log_has(log, CVK_COLUMN_HALL) ||
               (cvk_log_has(log, CVK_COLUMN_HALL_A) && cvk_log_has(log, CVK_COLUMN_HALL_B) &&
                cvk_log_has(log, CVK_COLUMN_HALL_C));
    case CVK_ROTOR_ENCODER:
        return cvk_log_has(log, CVK_COLUMN_ENC);
    case CVK_ROTOR_SINCOS:
        return cvk_log_has(log, CVK_COLUMN_SIN) && cvk_log_has(log, CVK_COLUMN_COS);
    case CVK_ROTOR_ABSOLUTE:
        return cvk_log_has(log, CVK_COLUMN_THETA_M);
    default:
        return false;
    }
}

cvk_status cvk_sensor_column_read(cvk_sensor_column *c, cvk_rotor_kind kind, const cvk_waveforms *s,
                                  const cvk_log *log, const size_t *row, double counts)
{
    *c = (cvk_sensor_column){.kind = kind};
    if (!in_log(log, kind)) {
        return CVK_NOT_IN_LOG;
    }
    c->angle_rad = malloc((s->rows + 1) * sizeof(double));
    if (c->angle_rad == NULL) {
        return CVK_NO_MEMORY;
    }
    cvk_status status = CVK_OK;
    switch (kind) {
    case CVK_ROTOR_HALLS:
        return read_halls(c, s, log, row);
    case CVK_ROTOR_ENCODER:
        read_scaled(c, log->column[CVK_COLUMN_ENC], row, s->rows, 1.0);
        unwrap_counter(c->angle_rad, s->rows);
        for (size_t k = 0; k < s->rows; k++) {
            c->angle_rad[k] *= TWO_PI / (counts > 0.0 ? counts : TWO_PI);
        }
        break;
    case CVK_ROTOR_SINCOS:
        status = read_sincos(c, log, row, s->rows);
        break;
    default:
        read_scaled(c, log->column[CVK_COLUMN_THETA_M], row, s->rows, 1.0);
        break;
    }
    if (status == CVK_OK && !(kind == CVK_ROTOR_ENCODER && !(counts > 0.0))) {
        unwrap(c->angle_rad, s->rows, TWO_PI);
    }
    if (status == CVK_OK) {
        measure(c, s->rows);
    }
    return status;
}

void cvk_sensor_column_free(cvk_sensor_column *c)
{
    free(c->angle_rad);
    free(c->edge);
    free(c->sin_v);
    free(c->cos_v);
    *c = (cvk_sensor_column){.kind = c->kind};
}
