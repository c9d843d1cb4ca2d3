/* SPDX-License-Identifier: Apache-2.0
 *
 * Gains from a motor card. Each rule is one function that sets a section and says why.
 */
#include "corvak/host/gains.h"

#include "corvak/core/current_control.h"

#include <complex.h>
#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#define PI 3.14159265358979323846
/* The current loop. */
#define PERIODS_PER_RADIAN 3.5 /* of the control rate over the bandwidth in rad/s */
#define NOISE_SHARE 0.03       /* of the bus, that noise of the readings may stir up, rms */
#define LEAST_MARGIN_RAD (45.0 * PI / 180.0)
/* Angle. */
#define VOLTAGE_TO_ANGLE 0.75 /* rad of angle error for a voltage that is off by the back-EMF */
#define LEAST_RAD (30.0 * PI / 180.0) /* angle error at observer.least_speed_rad_s, rms */
#define TAKEOVER 2.2                  /* times that speed, below which the vector holds the rotor */
#define WARMING_SHARE 0.12            /* by which a winding's resistance rises while it runs */
#define INVERTER_SHARE 0.15           /* of its own voltage, that compensation leaves */
#define TRACK_ERROR_RAD 0.05          /* lag of the tracking filter at full acceleration */
#define TRACK_RAD_PER_SAMPLE 0.15
#define PULL_SHARE 0.15 /* of the takeover's speed */
/* Start and speed. */
#define START_SHARE 0.7        /* of the current limit */
#define START_ACCELERATION 0.2 /* of what that current could do */
#define RAMP_SWINGS 1.5        /* of the rotor about the vector, that the ramp takes at least */
#define DAMPING 0.5            /* of the rotor about the vector, of the critical */
#define SWINGS 4.0             /* of the rotor about the vector, before it turns */
#define SPEED_CURRENT_SHARE 0.7
#define SLEW_SHARE 0.6 /* of what the speed loop's current could do */
#define SPEED_TO_TRACKING 0.2
#define SPEED_TO_CURRENT 0.1
#define POSITION_TO_SPEED 0.3

typedef struct work {
    const cvk_card *card;
    const cvk_gains_stage *stage;
    cvk_gains *out;
    double T, r, l_d, l_q, flux, pole_pairs, inverter_v;
    double reach; /* electrical acceleration per A of q current, rad/s^2; 0: not known */
} work;

static double value_of(const work *w, cvk_card_key key)
{
    const cvk_card_entry *e = &w->card->entry[key];
    return e->known ? e->value : 0.0;
}

static double half_share(const work *w, cvk_card_key key)
{
    const cvk_card_entry *e = &w->card->entry[key];
    return e->known ? 0.5 * (e->high - e->low) / e->value : 0.0;
}

/* Sets a parameter, kept within its range, with where it comes from. */
#if defined(__GNUC__)
__attribute__((format(printf, 4, 5)))
#endif
static void
set(work *w, const char *key, double value, const char *format, ...)
{
    const cvk_parameter *row = cvk_parameter_named(key);
    const float wanted = (float)value;
    const float kept = wanted > row->high ? row->high : (wanted < row->low ? row->low : wanted);
    if (w->out->items == CVK_GAINS_MOST ||
        cvk_parameter_set(&w->out->settings, row, kept, NULL) != CVK_OK) {
        return;
    }
    cvk_gains_item *item = &w->out->item[w->out->items++];
    va_list arguments;
    va_start(arguments, format);
    item->parameter = row;
    vsnprintf(item->from, sizeof item->from, format, arguments);
    va_end(arguments);
}

/* ---- the current loop ----------------------------------------------------------------------- */

/* From the model flux X = Lm i to the voltage times T, u(z) / X(z), with the learnt disturbance in
 * it; and the plant i = u / (L (z - 1)). With q = 1/z:
 *     e (1 - q + l q) = l ((1 - q) X - q u),   u (z + a) = -a X - (1 + a) e
 * (docs/theory.md section 11). */
static double complex loop_gain(double omega, double a, double l, double ratio)
{
    const double complex z = cexp(I * omega), q = 1.0 / z;
    const double complex learnt = l / (1.0 - q + l * q);
    const double complex u =
        -(a + (1.0 + a) * learnt * (1.0 - q)) / (z + a - (1.0 + a) * learnt * q);
    return -u / ((z - 1.0) * ratio);
}

void cvk_current_loop_step(double bandwidth_hz, double period_s, double ratio, double *response,
                           size_t count)
{
    const double a = 1.0 - exp(-2.0 * PI * bandwidth_hz * period_s),
                 l = (double)CVK_LEARNING_RATIO * a;
    double x = 0.0, predicted = 0.0, e = 0.0, acting = 0.0; /* x: model flux of the current */
    for (size_t n = 0; n < count; n++) {
        response[n] = x;
        e += n > 0 ? l * (x - predicted) : 0.0;
        const double next = x + acting + e;
        const double wanted = a * (1.0 - next) - e;
        predicted = next;
        x += acting / ratio;
        acting = wanted;
    }
}

/* Largest overshoot of a step of the set-point, by running the loop. */
static double overshoot_of(double bandwidth_hz, double period_s, double ratio)
{
    double response[400], highest = 0.0;
    cvk_current_loop_step(bandwidth_hz, period_s, ratio, response, 400);
    for (int n = 0; n < 400; n++) {
        highest = fmax(highest, response[n]);
    }
    return fmax(0.0, highest - 1.0);
}

void cvk_current_loop_analysis(double bandwidth_hz, double period_s, double ratio,
                               double *margin_rad, double *overshoot)
{
    const double a = 1.0 - exp(-2.0 * PI * bandwidth_hz * period_s),
                 l = (double)CVK_LEARNING_RATIO * a;
    *margin_rad = PI;
    double before = INFINITY;
    for (int n = 1; n < 4000; n++) {
        const double omega = PI * n / 4000.0;
        const double complex g = loop_gain(omega, a, l, ratio);
        if (before > 1.0 && cabs(g) <= 1.0) {
            *margin_rad = fmin(*margin_rad, fabs(remainder(carg(g) - PI, 2.0 * PI)));
        }
        before = cabs(g);
    }
    *overshoot = overshoot_of(bandwidth_hz, period_s, ratio);
}

/* Periods until 63 % of a step have been reached: the voltage acts one period late. */
static double rise_periods(double bandwidth_hz, double period_s)
{
    return 1.0 + ceil(1.0 / (2.0 * PI * bandwidth_hz * period_s) - 1e-9);
}

static void predict(work *w, double bandwidth_hz)
{
    cvk_loop_prediction *p = &w->out->current;
    const double half =
        fmax(half_share(w, CVK_CARD_INDUCTANCE_D), half_share(w, CVK_CARD_INDUCTANCE_Q));
    *p = (cvk_loop_prediction){.bandwidth_hz = bandwidth_hz,
                               .rise_periods = rise_periods(bandwidth_hz, w->T)};
    cvk_current_loop_analysis(bandwidth_hz, w->T, 1.0, &p->margin_rad, &p->overshoot);
    p->worst_margin_rad = p->margin_rad;
    p->worst_overshoot = p->overshoot;
    for (int corner = -1; corner <= 1; corner += 2) {
        double margin, overshoot;
        cvk_current_loop_analysis(bandwidth_hz, w->T, 1.0 + corner * half, &margin, &overshoot);
        p->worst_margin_rad = fmin(p->worst_margin_rad, margin);
        p->worst_overshoot = fmax(p->worst_overshoot, overshoot);
    }
}

static void current_loop(work *w)
{
    const double fastest_hz = 1.0 / (2.0 * PI * PERIODS_PER_RADIAN * w->T);
    const double noise_a = w->stage->current_noise_a, l_h = fmax(w->l_d, w->l_q);
    double bandwidth_hz = fmin(fastest_hz, 0.0624 / w->T);
    const char *why = "a radian of the loop takes 3.5 control periods";
    if (noise_a > 0.0) {
        const double quiet_hz = NOISE_SHARE * w->stage->bus_v / (2.0 * PI * l_h * noise_a);
        if (quiet_hz < bandwidth_hz) {
            bandwidth_hz = quiet_hz;
            why = "noise of the current readings stirs up 3 % of the bus voltage";
        }
    }
    predict(w, bandwidth_hz);
    while (w->out->current.worst_margin_rad < LEAST_MARGIN_RAD && bandwidth_hz > 2.0) {
        bandwidth_hz *= 0.9;
        why = "45 degrees of phase margin at the corner of the inductances' intervals";
        predict(w, bandwidth_hz);
    }
    set(w, "current.bandwidth_hz", bandwidth_hz,
        "gains: %s; phase margin %.0f deg, %.0f deg at worst over the card's intervals", why,
        180.0 / PI * w->out->current.margin_rad, 180.0 / PI * w->out->current.worst_margin_rad);
    set(w, "current.harmonics", 1.0, "gains: magnets and dead time make a fifth and a seventh");
}

/* ---- motor and inverter --------------------------------------------------------------------- */

static void motor(work *w)
{
    set(w, "motor.pole_pairs", w->pole_pairs, "card");
    set(w, "motor.resistance_ohm", w->r, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_RESISTANCE));
    set(w, "motor.inductance_d_h", w->l_d, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_INDUCTANCE_D));
    set(w, "motor.inductance_q_h", w->l_q, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_INDUCTANCE_Q));
    set(w, "motor.flux_linkage_wb", w->flux, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_FLUX_LINKAGE));
}

static void inverter(work *w)
{
    if (w->inverter_v > 0.0) {
        set(w, "inverter.voltage_v", w->inverter_v, "card, +-%.1f %%",
            100.0 * half_share(w, CVK_CARD_DEAD_TIME_VOLTAGE));
        if (w->stage->knee_a > 0.0) {
            set(w, "inverter.knee_a", w->stage->knee_a,
                "power stage: the current that moves a leg's node across within the dead time");
        }
    }
}

/* ---- angle and start ------------------------------------------------------------------------ */

/* Voltage that the observer's model may be off by, at the start's current. */
static double voltage_doubt(const work *w, double current_a)
{
    const double r_share = hypot(WARMING_SHARE, half_share(w, CVK_CARD_RESISTANCE));
    return r_share * w->r * current_a + INVERTER_SHARE * w->inverter_v;
}

static double largest_current(const work *w)
{
    return (double)w->out->settings.limit.current_a;
}

static void observer_and_start(work *w)
{
    const double start_a = START_SHARE * largest_current(w);
    const double doubt_v = voltage_doubt(w, start_a), top = w->out->top_speed_rad_s;
    const double least =
        fmin(fmax(VOLTAGE_TO_ANGLE * doubt_v / (LEAST_RAD * w->flux), 0.01 * top), 0.2 * top);
    const double takeover = TAKEOVER * least;
    const double fastest = w->reach * SPEED_CURRENT_SHARE * largest_current(w);
    const double tracking =
        fmin(fmax(sqrt(fastest / TRACK_ERROR_RAD), 0.5 * takeover), TRACK_RAD_PER_SAMPLE / w->T);
    set(w, "observer.bandwidth_rad_s", fmin(PULL_SHARE * takeover, 0.5 * tracking),
        "gains: %.0f %% of the speed of the takeover", 100.0 * PULL_SHARE);
    set(w, "observer.tracking_bandwidth_rad_s", tracking,
        "gains: lags by less than %.1f deg at %.0f rad/s^2", 180.0 / PI * TRACK_ERROR_RAD, fastest);
    set(w, "observer.least_speed_rad_s", least,
        "gains: there the %.2g V that the model may be off by make 30 deg of angle error", doubt_v);
    set(w, "start.current_a", start_a, "gains: %.0f %% of limit.current_a", 100.0 * START_SHARE);
    set(w, "start.speed_rad_s", takeover, "gains: %.1f times observer.least_speed_rad_s", TAKEOVER);
    if (w->reach > 0.0) {
        const double swing_s = 2.0 * PI / sqrt(w->reach * start_a);
        const double able = START_ACCELERATION * w->reach * start_a;
        const double gentle = takeover / (RAMP_SWINGS * swing_s);
        set(w, "start.acceleration_rad_s2", fmin(able, gentle),
            able < gentle ? "gains: %.0f %% of what the start's current can do"
                          : "gains: at the takeover's speed in no less than %.1f swings",
            able < gentle ? 100.0 * START_ACCELERATION : RAMP_SWINGS);
        set(w, "start.damping_s", 2.0 * DAMPING / sqrt(w->reach * start_a),
            "gains: damps the rotor's swing about the vector by %.1f of the critical", DAMPING);
        set(w, "start.align_s", fmin(SWINGS * swing_s, 5.0),
            "gains: %.0f swings of the rotor about the vector, of %.2g s each", SWINGS, swing_s);
    }
}

static void speed_loop(work *w)
{
    const double current_a = SPEED_CURRENT_SHARE * largest_current(w);
    set(w, "speed.current_a", current_a, "gains: %.0f %% of limit.current_a",
        100.0 * SPEED_CURRENT_SHARE);
    if (w->reach <= 0.0) {
        return;
    }
    const cvk_settings *s = &w->out->settings;
    const double tracking = s->angle.source == CVK_BY_ROTOR_SENSOR
                                ? 2.0 * PI * (double)s->rotor.bandwidth_hz
                                : (double)s->observer.tracking_bandwidth_rad_s;
    const double current_rad_s = 2.0 * PI * w->out->current.bandwidth_hz;
    const double bandwidth = fmin(SPEED_TO_TRACKING * tracking, SPEED_TO_CURRENT * current_rad_s);
    w->out->speed_bandwidth_rad_s = bandwidth;
    set(w, "speed.gain_a_s", bandwidth / w->reach,
        "gains: bandwidth %.3g rad/s with the card's inertia (+-%.0f %%)", bandwidth,
        100.0 * half_share(w, CVK_CARD_INERTIA));
    set(w, "speed.integral_gain_a", 0.25 * bandwidth * bandwidth / w->reach,
        "gains: both poles of the speed loop real, a quarter of the bandwidth");
    set(w, "speed.acceleration_rad_s2", SLEW_SHARE * w->reach * current_a,
        "gains: %.0f %% of what speed.current_a can do", 100.0 * SLEW_SHARE);
    set(w, "speed.jerk_rad_s3", SLEW_SHARE * w->reach * current_a * bandwidth,
        "gains: the acceleration comes within a radian of the speed loop");
    set(w, "speed.feedforward_a_s2", 1.0 / w->reach,
        "gains: what the card's inertia takes, so that the loop need not wait for an error");
    set(w, "position.gain_per_s", POSITION_TO_SPEED * bandwidth,
        "gains: %.2g of the speed loop's bandwidth", POSITION_TO_SPEED);
    set(w, "position.speed_rad_s", 0.6 * w->out->top_speed_rad_s,
        "gains: 60 %% of the speed at the end of the linear range");
    set(w, "program.speed_rad_s", 0.6 * w->out->top_speed_rad_s,
        "gains: 60 %% of the speed at the end of the linear range");
}

/* ---- all of it ------------------------------------------------------------------------------ */

static bool card_suffices(work *w)
{
    static const cvk_card_key needed[] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                          CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE,
                                          CVK_CARD_POLE_PAIRS};
    for (size_t n = 0; n < sizeof needed / sizeof needed[0]; n++) {
        const cvk_card_entry *e = &w->card->entry[needed[n]];
        if (!e->known) {
            snprintf(w->out->missing, sizeof w->out->missing, "%s: %.200s",
                     cvk_card_key_name(needed[n]),
                     e->missing[0] != '\0' ? e->missing : "not on the card");
            return false;
        }
    }
    return true;
}

cvk_status cvk_compute_gains(const cvk_card *card, const cvk_gains_stage *stage,
                             const cvk_settings *base, cvk_gains *out)
{
    if (card == NULL || stage == NULL || base == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    work w = {.card = card, .stage = stage, .out = out, .T = (double)stage->hardware.period_s};
    *out = (cvk_gains){.settings = *base};
    if (!card_suffices(&w)) {
        return CVK_NOT_IN_LOG;
    }
    w.r = value_of(&w, CVK_CARD_RESISTANCE);
    w.l_d = value_of(&w, CVK_CARD_INDUCTANCE_D);
    w.l_q = value_of(&w, CVK_CARD_INDUCTANCE_Q);
    w.flux = value_of(&w, CVK_CARD_FLUX_LINKAGE);
    w.pole_pairs = value_of(&w, CVK_CARD_POLE_PAIRS);
    w.inverter_v = value_of(&w, CVK_CARD_DEAD_TIME_VOLTAGE);
    const double inertia = value_of(&w, CVK_CARD_INERTIA);
    w.reach = inertia > 0.0 ? 1.5 * w.pole_pairs * w.pole_pairs * w.flux / inertia : 0.0;
    const double current_a = SPEED_CURRENT_SHARE * largest_current(&w);
    out->top_speed_rad_s =
        fmax(0.2 * stage->bus_v, stage->bus_v / sqrt(3.0) - w.r * current_a) / w.flux;
    motor(&w);
    inverter(&w);
    if (stage->current_delay_s > 0.0) {
        set(&w, "sensing.delay_s", stage->current_delay_s, "power stage: its current amplifiers");
    }
    current_loop(&w);
    observer_and_start(&w);
    speed_loop(&w);
    return CVK_OK;
}
