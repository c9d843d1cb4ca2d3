/* SPDX-License-Identifier: Apache-2.0
 *
 * The health of a log.
 */
#include "common.h"

#include "corvak/document/number.h"

#include <math.h>

static const char *unit_of(cvk_column column)
{
    switch (column) {
    case CVK_COLUMN_T:
        return "s";
    case CVK_COLUMN_IA:
    case CVK_COLUMN_IB:
    case CVK_COLUMN_IC:
    case CVK_COLUMN_IDC:
        return "A";
    case CVK_COLUMN_VA:
    case CVK_COLUMN_VB:
    case CVK_COLUMN_VC:
    case CVK_COLUMN_VAB:
    case CVK_COLUMN_VBC:
    case CVK_COLUMN_VCA:
    case CVK_COLUMN_VDC:
        return "V";
    case CVK_COLUMN_THETA_M:
    case CVK_COLUMN_THETA_E:
        return "rad";
    case CVK_COLUMN_SPEED_M:
        return "rad/s";
    case CVK_COLUMN_TEMP:
        return "degC";
    default:
        return "";
    }
}

/* A cell whose unit stands in the row. */
static void put_cell(cvk_doc *doc, const char *key, const char *label, double value,
                     int significant)
{
    cvk_doc_number(doc, key, label, value);
    cvk_doc_unit(doc, "", 1.0);
    cvk_doc_digits(doc, significant);
}

static void put_channels(cvk_doc *doc, const cvk_examination *e)
{
    cvk_doc_table(doc, "channels", "Channels");
    for (size_t n = 0; n < e->channels; n++) {
        const cvk_channel_health *h = &e->channel[n];
        cvk_doc_row(doc, cvk_column_name(h->column), cvk_column_name(h->column));
        cvk_doc_text(doc, "unit", "unit", unit_of(h->column));
        put_cell(doc, "lowest", "lowest", h->lowest, 5);
        put_cell(doc, "highest", "highest", h->highest, 5);
        put_cell(doc, "mean", "mean", h->mean, 5);
        put_cell(doc, "noise_rms", "noise rms", h->noise, 2);
        put_cell(doc, "step", "step", h->step > 0.0 ? h->step : (double)NAN, 3);
        put_cell(doc, "missing_rows", "missing", (double)h->missing, 9);
        cvk_doc_number(doc, "clipped_share", "clipped", h->clipped_share);
        cvk_doc_digits(doc, 2);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
}

static void put_time(cvk_doc *doc, const cvk_examination *e)
{
    cvk_doc_number(doc, "rows", NULL, (double)e->rows);
    cvk_doc_number(doc, "duration_s", NULL, e->duration_s);
    cvk_doc_number(doc, "period_s", NULL, e->period_s);
    cvk_doc_number(doc, "jitter", NULL, e->jitter);
    cvk_doc_number(doc, "gaps", NULL, (double)e->gaps);
    cvk_doc_number(doc, "repeated", NULL, (double)e->repeated);
    cvk_doc_number(doc, "backward", NULL, (double)e->backward);
    cvk_doc_number(doc, "pwm_hz", NULL, e->pwm_hz);
    if (e->rows < 2) {
        cvk_doc_note(doc, "a single row");
        return;
    }
    cvk_doc_note(doc, "%zu rows, %s s; one row every %s µs (%s kHz), steps vary by %s %% rms",
                 e->rows, digits(e->duration_s, 4), digits(1e6 * e->period_s, 6),
                 digits(1e-3 / e->period_s, 6), digits(100.0 * e->jitter, 2));
    cvk_doc_note(doc, "gaps: %zu, repeated times: %zu, times going back: %zu", e->gaps, e->repeated,
                 e->backward);
    if (e->pwm_hz > 0.0) {
        cvk_doc_note(doc, "the switching is visible: PWM at %s kHz", digits(1e-3 * e->pwm_hz, 5));
    }
}

static void put_likeness(cvk_doc *doc, const cvk_examination *e)
{
    const char *wrong =
        e->gives_back ? "THE SIGN IS WRONG, OR THE MOTOR BRAKES" : "THE NAMES ARE WRONG";
    cvk_doc_number(doc, "likeness", isfinite(e->alike) ? "likeness to voltage" : NULL, e->alike);
    cvk_doc_digits(doc, 2);
    cvk_doc_remark(doc, "with the columns taken for phases %s%s: %s", e->phase,
                   e->inverted ? ", inverted" : "", e->miswired ? wrong : "the names fit");
    cvk_doc_text(doc, "phases", NULL, e->phase);
    cvk_doc_flag(doc, "inverted", NULL, e->inverted);
    cvk_doc_flag(doc, "miswired", NULL, e->miswired);
}

static void put_currents(cvk_doc *doc, const cvk_examination *e)
{
    const bool sum = isfinite(e->current_sum_mean_a);
    cvk_doc_begin(doc, "currents", "Currents");
    cvk_doc_number(doc, "sum_mean_a", sum ? "ia + ib + ic, mean" : NULL, e->current_sum_mean_a);
    cvk_doc_number(doc, "sum_rms_a", sum ? "rms around it" : NULL, e->current_sum_rms_a);
    if (!sum) {
        cvk_doc_text(doc, NULL, "ia + ib + ic",
                     "not all three are logged: gains cannot be compared");
    }
    cvk_doc_numbers(doc, "gain_error", isfinite(e->gain_error[0]) ? "gains" : NULL, e->gain_error,
                    3);
    cvk_doc_unit(doc, "% off their mean", 100.0);
    cvk_doc_digits(doc, 3);
    cvk_doc_numbers(doc, "offset_a", isfinite(e->offset_a[0]) ? "offsets" : NULL, e->offset_a, 3);
    cvk_doc_digits(doc, 3);
    put_likeness(doc, e);
    cvk_doc_end(doc);
    const cvk_card_entry *delay = &e->estimate.card.entry[CVK_CARD_DELAY];
    put_card_entry(doc, "delay_periods", delay->known ? "voltage to current" : NULL, delay);
}

static bool usable(const cvk_examination *e)
{
    for (size_t n = 0; n < e->estimate.findings; n++) {
        if (e->estimate.finding[n].severity == CVK_ERROR) {
            return false;
        }
    }
    return true;
}

static void put_hope(cvk_doc *doc, const cvk_examination *e, cvk_card_key key)
{
    const cvk_card_entry *entry = &e->estimate.card.entry[key];
    const double hope = cvk_examine_hope(e, key);
    char *text = key == CVK_CARD_POLE_PAIRS && entry->known
                     ? g_strdup_printf("probability %.4f", entry->probability)
                 : key == CVK_CARD_DELAY && entry->known
                     ? g_strdup_printf("±%s periods", digits(hope * fabs(entry->value), 2))
                 : isfinite(hope) ? g_strdup_printf("±%s %%", digits(100.0 * hope, 2))
                                  : g_strdup_printf("nothing: %.*s", first_clause(entry->missing),
                                                    entry->missing);
    cvk_doc_text(doc, NULL, cvk_card_label(key), text);
    g_free(text);
}

static void put_hopes(cvk_doc *doc, const cvk_examination *e)
{
    cvk_doc_begin(doc, "hope", NULL);
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        cvk_doc_number(doc, cvk_card_key_name((cvk_card_key)key), NULL,
                       cvk_examine_hope(e, (cvk_card_key)key));
    }
    cvk_doc_end(doc);
    if (!usable(e)) {
        cvk_doc_title(doc, "This log cannot be used, for the reason below.");
        return;
    }
    cvk_doc_begin(doc, NULL,
                  "What each parameter can hope for in this log (95 %, without the channels' "
                  "common gains)");
    for (int key = 0; key < CVK_CARD_INVERTER_COUNT; key++) {
        put_hope(doc, e, (cvk_card_key)key);
    }
    cvk_doc_note(doc, "(corvak estimate --why tells what would show it)");
    cvk_doc_end(doc);
}

cvk_doc *cvk_examination_document(const cvk_examination *e)
{
    cvk_doc *doc = cvk_doc_new();
    put_time(doc, e);
    put_channels(doc, e);
    put_currents(doc, e);
    put_hopes(doc, e);
    put_missing(doc, &e->estimate.card);
    put_findings(doc, &e->estimate, "Findings");
    return doc;
}
