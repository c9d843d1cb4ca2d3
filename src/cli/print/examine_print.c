/* SPDX-License-Identifier: Apache-2.0
 *
 * The examination of a log, as a table for people and as JSON.
 */
#include "base/cli.h"

#include <math.h>
#include <stdio.h>

#define DASH "-"

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

static void print_figure(double value, const char *format)
{
    char text[32] = DASH;
    if (isfinite(value)) {
        snprintf(text, sizeof text, format, value);
    }
    g_print(" %11s", text);
}

static void print_channels(const cvk_examination *e)
{
    g_print("\n%-8s %-6s %11s %11s %11s %11s %11s %8s %8s\n", "channel", "unit", "lowest",
            "highest", "mean", "noise rms", "step", "missing", "clipped");
    for (size_t n = 0; n < e->channels; n++) {
        const cvk_channel_health *h = &e->channel[n];
        g_print("%-8s %-6s", cvk_column_name(h->column), unit_of(h->column));
        print_figure(h->lowest, "%.5g");
        print_figure(h->highest, "%.5g");
        print_figure(h->mean, "%.5g");
        print_figure(h->noise, "%.2g");
        print_figure(h->step > 0.0 ? h->step : NAN, "%.3g");
        g_print(" %8zu %6.1f %%\n", h->missing, 100.0 * h->clipped_share);
    }
}

static void print_time(const cvk_examination *e)
{
    if (e->rows < 2) {
        g_print("a single row\n");
        return;
    }
    g_print("%zu rows, %s s; one row every %s µs (%s kHz), steps vary by %s %% rms\n", e->rows,
            digits(e->duration_s, 4), digits(1e6 * e->period_s, 6), digits(1e-3 / e->period_s, 6),
            digits(100.0 * e->jitter, 2));
    g_print("gaps: %zu, repeated times: %zu, times going back: %zu\n", e->gaps, e->repeated,
            e->backward);
    if (e->pwm_hz > 0.0) {
        g_print("the switching is visible: PWM at %s kHz\n", digits(1e-3 * e->pwm_hz, 5));
    }
}

static void print_currents(const cvk_examination *e)
{
    g_print("\nCurrents\n");
    if (isfinite(e->current_sum_mean_a)) {
        g_print("  ia + ib + ic         mean %+.4g A, rms %s A around it\n", e->current_sum_mean_a,
                digits(e->current_sum_rms_a, 3));
    } else {
        g_print("  ia + ib + ic         not all three are logged: gains cannot be compared\n");
    }
    if (isfinite(e->gain_error[0])) {
        g_print("  gains                %+.2f %%, %+.2f %%, %+.2f %% of their mean\n",
                100.0 * e->gain_error[0], 100.0 * e->gain_error[1], 100.0 * e->gain_error[2]);
    }
    if (isfinite(e->offset_a[0])) {
        g_print("  offsets              %+.3g A, %+.3g A, %+.3g A\n", e->offset_a[0],
                e->offset_a[1], e->offset_a[2]);
    }
    if (isfinite(e->alike)) {
        const char *wrong =
            e->gives_back ? "THE SIGN IS WRONG, OR THE MOTOR BRAKES" : "THE NAMES ARE WRONG";
        g_print("  likeness to voltage  %.2f with the columns taken for phases %s%s: %s\n",
                e->alike, e->phase, e->inverted ? ", inverted" : "",
                e->miswired ? wrong : "the names fit");
    }
    const cvk_card_entry *delay = &e->estimate.card.entry[CVK_CARD_DELAY];
    if (delay->known) {
        g_print("  voltage to current   %.3f periods (%.3f .. %.3f)\n", delay->value, delay->low,
                delay->high);
    }
}

static gboolean usable(const cvk_examination *e)
{
    for (size_t n = 0; n < e->estimate.findings; n++) {
        if (e->estimate.finding[n].severity == CVK_ERROR) {
            return FALSE;
        }
    }
    return TRUE;
}

static void print_hopes(const cvk_examination *e)
{
    if (!usable(e)) {
        g_print("\nThis log cannot be used, for the reason below.\n");
        return;
    }
    g_print("\nWhat each parameter can hope for in this log (95 %%, without the channels' common "
            "gains)\n");
    for (int key = 0; key < CVK_CARD_INVERTER_COUNT; key++) {
        const cvk_card_entry *entry = &e->estimate.card.entry[key];
        const char *label = display_of((cvk_card_key)key, entry->value).label;
        const double hope = cvk_examine_hope(e, (cvk_card_key)key);
        if (key == CVK_CARD_POLE_PAIRS && entry->known) {
            g_print("  %-24s probability %.4f\n", label, entry->probability);
        } else if (key == CVK_CARD_DELAY && entry->known) {
            g_print("  %-24s ±%s periods\n", label, digits(hope * fabs(entry->value), 2));
        } else if (isfinite(hope)) {
            g_print("  %-24s ±%s %%\n", label, digits(100.0 * hope, 2));
        } else {
            g_print("  %-24s nothing: %.*s\n", label, first_clause(entry->missing), entry->missing);
        }
    }
    g_print("(corvak estimate --why tells what would show it)\n");
}

void print_examination_table(const cvk_examination *e)
{
    print_time(e);
    print_channels(e);
    print_currents(e);
    print_hopes(e);
    for (size_t n = 0; n < e->estimate.findings; n++) {
        const cvk_finding *finding = &e->estimate.finding[n];
        g_print("%s  %s: %s\n", n == 0 ? "\nFindings\n" : "", severity_text(finding->severity),
                finding->text);
    }
}

static void add_channels(JsonBuilder *b, const cvk_examination *e)
{
    json_builder_set_member_name(b, "channels");
    json_builder_begin_object(b);
    for (size_t n = 0; n < e->channels; n++) {
        const cvk_channel_health *h = &e->channel[n];
        json_builder_set_member_name(b, cvk_column_name(h->column));
        json_builder_begin_object(b);
        add_json_text(b, "unit", unit_of(h->column));
        add_json_number(b, "lowest", h->lowest);
        add_json_number(b, "highest", h->highest);
        add_json_number(b, "mean", h->mean);
        add_json_number(b, "noise_rms", h->noise);
        add_json_number(b, "step", h->step);
        add_json_number(b, "missing_rows", (double)h->missing);
        add_json_number(b, "clipped_share", h->clipped_share);
        json_builder_end_object(b);
    }
    json_builder_end_object(b);
}

static void add_three(JsonBuilder *b, const char *key, const double value[3])
{
    json_builder_set_member_name(b, key);
    json_builder_begin_array(b);
    for (int c = 0; c < 3; c++) {
        if (isfinite(value[c])) {
            json_builder_add_double_value(b, value[c]);
        } else {
            json_builder_add_null_value(b);
        }
    }
    json_builder_end_array(b);
}

static void add_currents(JsonBuilder *b, const cvk_examination *e)
{
    json_builder_set_member_name(b, "currents");
    json_builder_begin_object(b);
    add_json_number(b, "sum_mean_a", e->current_sum_mean_a);
    add_json_number(b, "sum_rms_a", e->current_sum_rms_a);
    add_three(b, "gain_error", e->gain_error);
    add_three(b, "offset_a", e->offset_a);
    add_json_text(b, "phases", e->phase);
    json_builder_set_member_name(b, "inverted");
    json_builder_add_boolean_value(b, e->inverted);
    json_builder_set_member_name(b, "miswired");
    json_builder_add_boolean_value(b, e->miswired);
    add_json_number(b, "likeness", e->alike);
    json_builder_end_object(b);
}

static void add_hopes(JsonBuilder *b, const cvk_examination *e)
{
    json_builder_set_member_name(b, "hope");
    json_builder_begin_object(b);
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        add_json_number(b, cvk_card_key_name((cvk_card_key)key),
                        cvk_examine_hope(e, (cvk_card_key)key));
    }
    json_builder_end_object(b);
}

void print_examination_json(const cvk_examination *e)
{
    const cvk_card_entry *delay = &e->estimate.card.entry[CVK_CARD_DELAY];
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_number(b, "rows", (double)e->rows);
    add_json_number(b, "duration_s", e->duration_s);
    add_json_number(b, "period_s", e->period_s);
    add_json_number(b, "jitter", e->jitter);
    add_json_number(b, "gaps", (double)e->gaps);
    add_json_number(b, "repeated", (double)e->repeated);
    add_json_number(b, "backward", (double)e->backward);
    add_json_number(b, "pwm_hz", e->pwm_hz);
    add_channels(b, e);
    add_currents(b, e);
    add_json_entry(b, "delay_periods", delay, FALSE);
    add_hopes(b, e);
    add_json_missing(b, &e->estimate.card);
    add_json_findings(b, &e->estimate);
    json_builder_end_object(b);
    print_json_document(b);
}
