/* SPDX-License-Identifier: Apache-2.0
 *
 * A calibration as a report for people.
 */
#include "base/calibration.h"

#include "corvak/core/units.h"

#include <math.h>

/* A line "label value [low .. high] unit"; nothing when it is not known. */
static void print_value(const char *label, const cvk_measured *x, double factor, const char *unit)
{
    if (cvk_measured_known(x)) {
        char value[32], low[32], high[32];
        const double half = 0.5 * factor * (x->high - x->low);
        print_number(value, sizeof value, factor * x->value, half);
        print_number(low, sizeof low, factor * x->low, half);
        print_number(high, sizeof high, factor * x->high, half);
        g_print("  %-22s %10s  [%s .. %s] %s\n", label, value, low, high, unit);
    }
}

static const char *reference_text(cvk_reference_kind kind)
{
    return kind == CVK_REFERENCE_BACK_EMF  ? "the back-EMF"
           : kind == CVK_REFERENCE_CURRENT ? "the current vector that dragged the rotor both ways"
                                           : "the best of the other sensors";
}

static void print_halls(const cvk_sensor_calibration *s)
{
    if (!cvk_measured_known(&s->hall.edge_rad[0])) {
        g_print(
            "  edges                  each was passed too few times to be placed: turn further\n");
        return;
    }
    g_print("  edge between codes      electrical angle / deg      up after down / deg\n");
    static const int code_of[6] = {1, 3, 2, 6, 4, 5};
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        const cvk_measured *edge = &s->hall.edge_rad[n], *gap = &s->hall.hysteresis_rad[n];
        g_print("    %d and %d              %8.2f +- %-8.2f", code_of[n], code_of[(n + 1) % 6],
                edge->value * CVK_DEG_PER_RAD, 0.5 * (edge->high - edge->low) * CVK_DEG_PER_RAD);
        if (cvk_measured_known(gap)) {
            g_print("       %7.2f +- %.2f", gap->value * CVK_DEG_PER_RAD,
                    0.5 * (gap->high - gap->low) * CVK_DEG_PER_RAD);
        }
        g_print("\n");
    }
    if (s->hall.bounce_share > 0.001) {
        g_print("  bouncing               %.1f %% of %zu edges\n", 100.0 * s->hall.bounce_share,
                s->hall.edges);
    }
}

static void print_harmonics(const cvk_sensor_calibration *s)
{
    static const char *const cosines[] = {"error once a turn, cos", "error twice a turn, cos"};
    static const char *const sines[] = {"error once a turn, sin", "error twice a turn, sin"};
    for (int n = 0; n < CVK_SENSOR_HARMONICS; n++) {
        print_value(cosines[n], &s->cosine_rad[n], CVK_DEG_PER_RAD, "deg, its own");
        print_value(sines[n], &s->sine_rad[n], CVK_DEG_PER_RAD, "deg, its own");
    }
}

static void print_sensor(const cvk_sensor_calibration *s, cvk_rotor_kind kind)
{
    g_print("\n%s\n", cvk_rotor_kind_name((int)kind));
    if (s->hall.bad_codes > 0 && kind == CVK_ROTOR_HALLS) {
        g_print("  bad codes              %zu rows with code 0 or 7\n", s->hall.bad_codes);
    }
    if (!cvk_measured_known(&s->electrical_offset_rad)) {
        g_print("  not calibrated: %s\n", s->why);
        return;
    }
    g_print(
        "  direction              %s, %d electrical turn%s per turn of the sensor; %.1f electrical "
        "turns in the log\n",
        s->direction > 0 ? "forward" : "backward", s->ratio, s->ratio == 1 ? "" : "s", s->turns);
    print_value("electrical offset", &s->electrical_offset_rad, CVK_DEG_PER_RAD, "deg");
    g_print("  by                     %s\n", reference_text(s->reference));
    print_value("latency", &s->latency_s, 1e6, "us");
    print_value("rotor's lag", &s->lag_rad, CVK_DEG_PER_RAD, "deg, taken off by using both ways");
    print_harmonics(s);
    if (kind == CVK_ROTOR_HALLS) {
        print_halls(s);
    }
    if (kind == CVK_ROTOR_SINCOS) {
        print_value("sin offset", &s->sincos.sin_offset_v, 1e3, "mV");
        print_value("cos offset", &s->sincos.cos_offset_v, 1e3, "mV");
        print_value("sin over cos", &s->sincos.gain_ratio, 1.0, "");
        print_value("quadrature", &s->sincos.quadrature_rad, CVK_DEG_PER_RAD, "deg");
    }
    if (kind == CVK_ROTOR_ENCODER) {
        g_print("  counts per turn        %10.0f\n", s->encoder.counts_per_turn);
        print_value("index mark at", &s->encoder.index_rad, CVK_DEG_PER_RAD, "deg of the shaft");
        print_value("lost counts", &s->encoder.lost_per_turn, 1.0, "per turn");
    }
    if (isfinite(s->error_before_rad)) {
        g_print(s->reference == CVK_REFERENCE_CURRENT
                    ? "  against the vector     %.2f deg electrical rms before, %.2f after: the "
                      "magnets' detents are in it\n"
                    : "  angle error            %.2f deg electrical rms before, %.2f after\n",
                s->error_before_rad * CVK_DEG_PER_RAD, s->error_after_rad * CVK_DEG_PER_RAD);
    }
}

/* Sensors beside each other. */
static void print_comparison(const cvk_calibration *c)
{
    int known = 0;
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        known += cvk_measured_known(&c->sensor[k].electrical_offset_rad);
    }
    if (known > 1) {
        g_print("\n%-10s %16s %12s %14s %16s\n", "electrical", "step / deg", "noise / deg",
                "latency / us", "offset +- deg");
        for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
            const cvk_sensor_calibration *s = &c->sensor[k];
            const cvk_measured *offset = &s->electrical_offset_rad;
            if (!cvk_measured_known(offset)) {
                continue;
            }
            char noise[32] = "-", latency[32] = "-";
            if (isfinite(s->noise_rad)) {
                g_snprintf(noise, sizeof noise, "%.3f", s->noise_rad * CVK_DEG_PER_RAD);
            }
            if (cvk_measured_known(&s->latency_s)) {
                g_snprintf(latency, sizeof latency, "%.1f", 1e6 * s->latency_s.value);
            }
            g_print("%-10s %16.4f %12s %14s %16.2f\n", cvk_rotor_kind_name(k),
                    s->resolution_rad * CVK_DEG_PER_RAD, noise, latency,
                    0.5 * (offset->high - offset->low) * CVK_DEG_PER_RAD);
        }
    }
    g_print("\nuse %s\n", c->why_best);
}

static void print_channels(const cvk_channel_calibration *c)
{
    g_print("\ncurrent channels\n");
    for (int n = 0; n < 3; n++) {
        char offset[16], gain[16];
        g_snprintf(offset, sizeof offset, "offset %c", 'a' + n);
        g_snprintf(gain, sizeof gain, "gain %c", 'a' + n);
        print_value(offset, &c->offset_a[n], 1e3, "mA");
        print_value(gain, &c->gain[n], 1.0, "of the mean");
    }
    if (c->why_offset[0] != '\0') {
        g_print("  offsets open: %s\n", c->why_offset);
    }
    if (c->why_gain[0] != '\0') {
        g_print("  gains open: %s\n", c->why_gain);
    }
    if (cvk_measured_known(&c->bus_gain)) {
        print_value("bus voltage", &c->bus_gain, 1.0, "of the terminals'");
    } else {
        g_print("  bus voltage's gain open: %s\n", c->why_bus);
    }
}

void print_calibration(const cvk_calibration *c, const char *log)
{
    gboolean any = FALSE;
    g_print("calibration from %s (95 %% intervals; angles electrical)\n", log);
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        if (c->sensor[k].present) {
            print_sensor(&c->sensor[k], (cvk_rotor_kind)k);
            any = TRUE;
        }
    }
    if (!any) {
        g_print("\nthe log has no rotor sensor: log hall, enc, theta_m, or sin and cos\n");
    }
    if (c->has_tachometer) {
        g_print("\ntachometer\n");
        if (cvk_measured_known(&c->tachometer_v_s)) {
            print_value("scale", &c->tachometer_v_s, 1e3, "mV per rad/s of the shaft");
            g_print("  ripple                 %.1f %% rms\n", 100.0 * c->tachometer_ripple);
        } else {
            g_print("  not calibrated: %s\n", c->why_tachometer);
        }
    }
    if (any) {
        print_comparison(c);
        print_channels(&c->channels);
    }
    for (size_t n = 0; n < c->log.findings; n++) {
        g_print("%s%s: %s: %s\n", n == 0 ? "\n" : "", severity_text(c->log.finding[n].severity),
                c->log.finding[n].log, c->log.finding[n].text);
    }
}
