/* SPDX-License-Identifier: Apache-2.0
 *
 * Current channels to the stationary plane: gains that their sum shows, and a channel that is
 * inverted or scaled.
 */
#include "waveforms_parts.h"

#include "channels.h"
#include "findings.h"

#include <math.h>
#include <string.h>

#define LARGEST_MISMATCH 0.03 /* of the current channels' gains */
#define MOST_APART 30.0       /* two channels of one motor, in what they span */

/* Index of the one channel whose gain has the other sign; -1 for none. */
static int inverted_channel(const double gain[3])
{
    for (int c = 0; c < 3; c++) {
        double own = gain[c], a = gain[(c + 1) % 3], b = gain[(c + 2) % 3];
        if (own * a < 0.0 && own * b < 0.0) {
            return c;
        }
    }
    return -1;
}

/* More than amplifiers differ by: one channel is scaled. The other two, when they agree, are right;
 * else nobody knows which. */
static bool trust_two(double gain[3], const cvk_log *log, cvk_estimate *out)
{
    for (int odd = 0; odd < 3; odd++) {
        const double a = gain[(odd + 1) % 3], b = gain[(odd + 2) % 3], mean = 0.5 * (a + b);
        if (fabs(a - b) < LARGEST_MISMATCH * mean &&
            fabs(gain[odd] / mean - 1.0) > LARGEST_MISMATCH) {
            cvk_add_finding(out, CVK_WARNING, log->name,
                            "i%c reads %+.1f %% against the other two channels, which agree: it is "
                            "taken for the odd one and corrected; check its gain",
                            'a' + odd, 100.0 * (mean / gain[odd] - 1.0));
            for (int c = 0; c < 3; c++) {
                gain[c] /= mean;
            }
            return true;
        }
    }
    cvk_add_finding(
        out, CVK_ERROR, log->name,
        "the current channels differ in gain by more than %.0f %% (%.2f, %.2f, %.2f would "
        "make their sum constant): which one is right cannot be told",
        100.0 * LARGEST_MISMATCH, gain[0], gain[1], gain[2]);
    return false;
}

/* One channel in another unit, or something else in one of the columns. */
static void complain_scale(const cvk_log *log, int odd, double factor, cvk_estimate *out)
{
    cvk_add_finding(out, CVK_ERROR, log->name,
                    "ia + ib + ic is far from constant: i%c is about %.3g times what the other two "
                    "make of it. Another unit (head it `i%c [mA]`), another scale, or not a phase "
                    "current",
                    'a' + odd, factor, 'a' + odd);
}

static void complain_gains(const cvk_log *log, const double g[3], cvk_estimate *out)
{
    int odd = 0;
    double factor = 1.0;
    for (int c = 0; c < 3; c++) {
        const double others = 0.5 * (g[(c + 1) % 3] + g[(c + 2) % 3]);
        if (fmax(fabs(others / g[c]), fabs(g[c] / others)) >
            fmax(fabs(factor), fabs(1.0 / factor))) {
            odd = c;
            factor = others / g[c];
        }
    }
    complain_scale(log, odd, factor, out);
}

/* Takes up the relative gains, or complains when they are beyond belief. */
static void current_gains(const cvk_log *log, const size_t *rows, size_t count, double gain[3],
                          cvk_estimate *out)
{
    double g[3], worst = 0.0;
    if (!cvk_channel_gains(log, CVK_COLUMN_IA, rows, count, g)) {
        return;
    }
    for (int c = 0; c < 3; c++) {
        worst = fmax(worst, fabs(g[c] - 1.0));
    }
    const int inverted = inverted_channel(g);
    if (inverted >= 0) {
        cvk_add_finding(
            out, CVK_ERROR, log->name,
            "i%c is inverted: ia + ib + ic is constant only with its sign changed; swap "
            "its sensor's wires, or negate the column",
            'a' + inverted);
        return;
    }
    if (worst > 0.2) {
        complain_gains(log, g, out);
        return;
    }
    if (worst > LARGEST_MISMATCH && !trust_two(g, log, out)) {
        return;
    }
    memcpy(gain, g, sizeof g);
    if (worst > 0.002 && worst <= LARGEST_MISMATCH) {
        cvk_add_finding(out, CVK_NOTE, log->name,
                        "current channels differ in gain (%+.2f %%, %+.2f %%, %+.2f %% of their "
                        "mean); corrected",
                        100.0 * (1.0 / g[0] - 1.0), 100.0 * (1.0 / g[1] - 1.0),
                        100.0 * (1.0 / g[2] - 1.0));
    }
}

/* The largest of three currents is no larger than the other two together. Two channels tell less:
 * but hardly any run drives a current through one phase alone. */
static bool compare_spans(const cvk_log *log, const double *const i[3], const size_t *rows,
                          size_t count, cvk_estimate *out)
{
    double span[3] = {0.0, 0.0, 0.0};
    int small = -1, large = -1, channels = 0;
    for (int c = 0; c < 3; c++) {
        double low = INFINITY, high = -INFINITY;
        for (size_t k = 0; i[c] != NULL && k < count; k++) {
            low = fmin(low, i[c][rows[k]]);
            high = fmax(high, i[c][rows[k]]);
        }
        span[c] = high > low ? high - low : 0.0;
        channels += i[c] != NULL;
        if (i[c] != NULL && span[c] > 0.0) {
            small = small < 0 || span[c] < span[small] ? c : small;
            large = large < 0 || span[c] > span[large] ? c : large;
        }
    }
    const double others = span[0] + span[1] + span[2] - (large >= 0 ? span[large] : 0.0);
    if (channels == 3 && large >= 0 && others > 0.0 && span[large] > MOST_APART * others) {
        complain_scale(log, large, span[large] / others, out);
        return false;
    }
    if (channels == 2 && large >= 0 && small >= 0 && span[large] > MOST_APART * span[small]) {
        cvk_add_finding(out, CVK_WARNING, log->name,
                        "i%c goes %.3g times as far as i%c: are both in the same unit? Head them "
                        "`i%c [A]`, `i%c [mA]`",
                        'a' + large, span[large] / span[small], 'a' + small, 'a' + large,
                        'a' + small);
    }
    return true;
}

void cvk_convert_currents(cvk_waveforms *s, const cvk_log *log, const size_t *rows,
                          cvk_estimate *out)
{
    double gain[3] = {1, 1, 1};
    const double *i[3] = {log->column[CVK_COLUMN_IA], log->column[CVK_COLUMN_IB],
                          log->column[CVK_COLUMN_IC]};
    if (compare_spans(log, i, rows, s->rows, out) && i[0] != NULL && i[1] != NULL && i[2] != NULL) {
        current_gains(log, rows, s->rows, gain, out);
    }
    for (size_t k = 0; k < s->rows; k++) {
        double x[3];
        for (int c = 0; c < 3; c++) {
            x[c] = i[c] != NULL ? gain[c] * i[c][rows[k]] : 0.0;
        }
        for (int c = 0; c < 3; c++) {
            if (i[c] == NULL) {
                x[c] = -(x[(c + 1) % 3] + x[(c + 2) % 3]);
            }
        }
        s->i_alpha[k] = (2.0 * x[0] - x[1] - x[2]) / 3.0;
        s->i_beta[k] = (x[1] - x[2]) / sqrt(3.0);
        s->peak_current_a = fmax(s->peak_current_a, hypot(s->i_alpha[k], s->i_beta[k]));
    }
}
