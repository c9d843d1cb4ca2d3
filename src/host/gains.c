/* SPDX-License-Identifier: Apache-2.0
 *
 * Gains from a motor card. Each rule is one function that sets a section and says why.
 */
#include "corvak/host/gains.h"

#include "corvak/core/units.h"

#include "corvak/host/loop_margin.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

/* The current loop. */
#define PERIODS_PER_RADIAN 3.5 /* of the control rate over the bandwidth in rad/s */
#define NOISE_SHARE 0.03       /* of the bus, that noise of the readings may stir up, rms */
#define LEAST_MARGIN_RAD (45.0 * CVK_PI_WIDE / 180.0)
#define SLOWER 0.95 /* a loop that lacks margin, step by step */
/* Angle. */
#define VOLTAGE_TO_ANGLE 0.75 /* rad of angle error for a voltage that is off by the back-EMF */
#define LEAST_RAD                                                                                  \
    (30.0 * CVK_PI_WIDE / 180.0) /* angle error at observer.least_speed_rad_s, rms                 \
                                  */
#define TAKEOVER 2.2             /* times that speed, below which the vector holds the rotor */
#define WARMING_SHARE 0.12       /* by which a winding's resistance rises while it runs */
#define INVERTER_SHARE 0.15      /* of its own voltage, that compensation leaves */
#define TRACK_ERROR_RAD 0.05     /* lag of the tracking filter at full acceleration */
#define TRACK_RAD_PER_SAMPLE 0.15
#define HIDES_SHARE 0.5 /* of the magnets' flux linkage, left at limit.current_a: worth a word */
#define PATIENCE_S 1.0
#define PATIENCE_TURNS 4.0
#define PULL_SHARE 0.15 /* of the takeover's speed */
/* Injection. */
#define LEAST_SALIENCY 1.15
#define PULSE_FALLS 0.6
#define LEAVE 2.0
#define INJECTION_MOST_RAD_S 800.0
#define INJECTION_LAG_RAD 0.12
#define INJECTION_NOISE 1.8 /* of a second difference turned back, for that of a reading */
#define INJECTION_RAD (1.5 * CVK_PI_WIDE / 180.0)
#define INJECTION_TO_INVERTER 18.0
#define INJECTION_MOST 0.4 /* of the linear range */
/* Start and speed. */
#define START_SHARE 0.7        /* of the current limit */
#define START_ACCELERATION 0.2 /* of what that current could do */
#define RAMP_SWINGS 1.5        /* of the rotor about the vector, that the ramp takes at least */
#define DAMPING 0.5            /* of the rotor about the vector, of the critical */
#define SWINGS 4.0             /* of the rotor about the vector, before it turns */
#define SPEED_CURRENT_SHARE 0.95
#define PLANNED_SHARE                                                                              \
    0.7 /* of the limit: what accelerations are planned with; the rest is the load's */
#define SLEW_SHARE 0.6 /* of what that current could do */
#define SPEED_TO_TRACKING 0.2
#define SPEED_TO_CURRENT 0.1
#define INTEGRAL_SHARE 0.25 /* of the bandwidth squared: both poles real */
#define INTEGRAL_RAD 0.2    /* of margin, that the integral may take before it is lowered */
#define POSITION_TO_SPEED 0.3
/* Without an inertia. */
#define FAR_ERROR 0.3   /* of the top speed, that takes all the current */
#define FIRST_SPEED 0.5 /* of the top speed, that a first spin goes up to at most */
#define CAUTIOUS_S 0.5

typedef struct work {
    const cvk_card *card;
    const cvk_gains_stage *stage;
    cvk_gains *out;
    double T, r, l_d, l_q, flux, pole_pairs, inverter_v;
    double reach;        /* electrical acceleration per A of q current, rad/s^2; 0: not known */
    double light, heavy; /* the same at the ends of what inertia, load and flux linkage may be */
    cvk_gains_wish wish;
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

/* A wish that cannot be kept: `most` can. */
static void cannot_keep(work *w, const char *loop, double wished_hz, double most_hz,
                        const char *why)
{
    if (w->out->missing[0] == '\0') {
        snprintf(w->out->missing, sizeof w->out->missing,
                 "%s loop: %.4g Hz cannot be kept: %s; at most %.4g Hz", loop, wished_hz, why,
                 most_hz);
    }
}

/* ---- the current loop ----------------------------------------------------------------------- */

/* Periods until 63 % of a step have been reached: the voltage acts one period late. */
static double rise_periods(double bandwidth_hz, double period_s)
{
    return 1.0 + ceil(1.0 / (2.0 * CVK_PI_WIDE * bandwidth_hz * period_s) - 1e-9);
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
    const double fastest_hz = 1.0 / (2.0 * CVK_PI_WIDE * PERIODS_PER_RADIAN * w->T);
    const double noise_a = w->stage->current_noise_a, l_h = fmax(w->l_d, w->l_q);
    const double wished_hz = w->wish.current_bandwidth_hz;
    double bandwidth_hz = fmin(wished_hz > 0.0 ? wished_hz : fastest_hz, 0.0624 / w->T);
    const char *why =
        wished_hz > 0.0 ? "as asked for" : "a radian of the loop takes 3.5 control periods";
    if (noise_a > 0.0 && !(wished_hz > 0.0)) {
        const double quiet_hz = NOISE_SHARE * w->stage->bus_v / (2.0 * CVK_PI_WIDE * l_h * noise_a);
        if (quiet_hz < bandwidth_hz) {
            bandwidth_hz = quiet_hz;
            why = "noise of the current readings stirs up 3 % of the bus voltage";
        }
    }
    predict(w, bandwidth_hz);
    while (w->out->current.worst_margin_rad < w->wish.margin_rad && bandwidth_hz > 2.0) {
        bandwidth_hz *= SLOWER;
        why = "phase margin at the corner of the inductances' intervals";
        predict(w, bandwidth_hz);
    }
    if (bandwidth_hz < wished_hz) {
        cannot_keep(w, "current", wished_hz, bandwidth_hz,
                    wished_hz > 0.0624 / w->T
                        ? "the control rate allows a sixteenth of it"
                        : "it lacks phase margin at the corner of the inductances' intervals");
    }
    set(w, "current.bandwidth_hz", bandwidth_hz,
        "gains: %s; phase margin %.0f deg, %.0f deg at worst over the card's intervals", why,
        180.0 / CVK_PI_WIDE * w->out->current.margin_rad,
        180.0 / CVK_PI_WIDE * w->out->current.worst_margin_rad);
    set(w, "current.harmonics", 1.0, "gains: magnets and dead time make a fifth and a seventh");
}

/* ---- motor and inverter --------------------------------------------------------------------- */

static void set_magnets(work *w)
{
    const char *guess =
        "the tune file's guess: record a spin, estimate, and compute the gains again";
    if (w->card->entry[CVK_CARD_POLE_PAIRS].known) {
        set(w, "motor.pole_pairs", w->pole_pairs, "card");
    } else {
        set(w, "motor.pole_pairs", w->pole_pairs, "%s", guess);
    }
    if (w->card->entry[CVK_CARD_FLUX_LINKAGE].known) {
        set(w, "motor.flux_linkage_wb", w->flux, "card, +-%.1f %%",
            100.0 * half_share(w, CVK_CARD_FLUX_LINKAGE));
    } else {
        set(w, "motor.flux_linkage_wb", w->flux, "%s", guess);
    }
}

static void motor(work *w)
{
    set_magnets(w);
    set(w, "motor.resistance_ohm", w->r, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_RESISTANCE));
    set(w, "motor.inductance_d_h", w->l_d, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_INDUCTANCE_D));
    set(w, "motor.inductance_q_h", w->l_q, "card, +-%.1f %%",
        100.0 * half_share(w, CVK_CARD_INDUCTANCE_Q));
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

/* How far a q current turns the axis that is seen, by the card: half the angle whose tangent is the
 * coupling over half the difference of the inductances, as they are at the limit. */
static void set_cross(work *w)
{
    const cvk_card_entry *cross = &w->card->entry[CVK_CARD_CROSS],
                         *square = &w->card->entry[CVK_CARD_SQUARE_Q];
    if (!cross->known || !(cross->low > 0.0)) { /* may be none */
        return;
    }
    const double i_q = largest_current(w);
    const double l_q =
        w->l_q / (1.0 + (square->known ? fmax(square->value, 0.0) * i_q * i_q : 0.0));
    const double coupling = 0.5 * cross->value * (w->l_d + w->l_q) * i_q;
    const double turned = 0.5 * atan2(2.0 * coupling, fmax(l_q - w->l_d, coupling));
    set(w, "injection.cross_rad_a", turned / i_q,
        "card's cross-saturation, +-%.0f %%: %.2g deg at limit.current_a",
        100.0 * half_share(w, CVK_CARD_CROSS), 180.0 / CVK_PI_WIDE * turned);
}

/* A voltage that swings the current far enough for its noise and for what the dead time spoils, and
 * no further. */
static void injection(work *w)
{
    const cvk_card_entry *d = &w->card->entry[CVK_CARD_INDUCTANCE_D],
                         *q = &w->card->entry[CVK_CARD_INDUCTANCE_Q];
    const cvk_settings *s = &w->out->settings;
    if (!w->wish.injection) {
        set(w, "injection.voltage_v", 0.0, "gains: none asked for");
        return;
    }
    if (q->low < LEAST_SALIENCY * d->high) {
        snprintf(w->out->missing, sizeof w->out->missing,
                 "injection: inductance q is %.3g times inductance d (%.3g to %.3g by the card); "
                 "below %.3g times the angle does not show",
                 w->l_q / w->l_d, q->low / d->high, q->high / d->low, LEAST_SALIENCY);
        return;
    }
    const double fastest = w->light * largest_current(w);
    const double bandwidth =
        fmin(fmax((double)s->observer.tracking_bandwidth_rad_s, sqrt(fastest / INJECTION_LAG_RAD)),
             INJECTION_MOST_RAD_S);
    const double seen = w->T * (1.0 / w->l_d - 1.0 / w->l_q); /* A per V and rad */
    const double noise_a = INJECTION_NOISE * w->stage->current_noise_a;
    const double quiet_v = noise_a * sqrt(bandwidth * w->T) / (seen * INJECTION_RAD);
    const double firm_v = INJECTION_TO_INVERTER * w->inverter_v;
    const double most_v = INJECTION_MOST * w->stage->bus_v / sqrt(3.0);
    const double volts = fmax(quiet_v, firm_v);
    if (volts > most_v) {
        snprintf(w->out->missing, sizeof w->out->missing,
                 "injection: %.3g V would be needed for noise and dead time, and the bus leaves "
                 "%.3g V",
                 volts, most_v);
        return;
    }
    set(w, "injection.voltage_v", volts,
        "gains: saliency %.3g; swings the current by +-%.2g A at %.4g kHz, %s", w->l_q / w->l_d,
        0.5 * volts * w->T / w->l_d, 0.5e-3 / w->T,
        quiet_v > firm_v ? "for the readings' noise" : "well above the inverter's own voltage");
    set(w, "injection.bandwidth_rad_s", bandwidth,
        "gains: lags by %.1f deg at %.0f rad/s^2, all that limit.current_a can do",
        180.0 / CVK_PI_WIDE * fastest / (bandwidth * bandwidth), fastest);
    if (w->reach > 0.0) {
        const double falls_s = 1.0 / sqrt(w->light * (double)s->start.current_a);
        set(w, "injection.pulse_s", fmin(fmax(PULSE_FALLS * falls_s, 40.0 * w->T), 0.03),
            "gains: %.2g times that in which the rotor would begin to turn round", PULSE_FALLS);
    }
    set_cross(w);
    set(w, "injection.leave_rad_s", LEAVE * (double)s->start.speed_rad_s,
        "gains: %.2g times start.speed_rad_s: there the observer is good at any current", LEAVE);
}

static void observer_and_start(work *w)
{
    const double start_a = START_SHARE * largest_current(w);
    const double doubt_v = voltage_doubt(w, start_a), top = w->out->top_speed_rad_s;
    const double least =
        fmin(fmax(VOLTAGE_TO_ANGLE * doubt_v / (LEAST_RAD * w->flux), 0.01 * top), 0.2 * top);
    const double takeover = TAKEOVER * least;
    const double fastest = w->reach * PLANNED_SHARE * largest_current(w);
    const double wished = 2.0 * CVK_PI_WIDE * w->wish.observer_bandwidth_hz;
    const double most = TRACK_RAD_PER_SAMPLE / w->T;
    const double tracking =
        wished > 0.0 ? wished : fmin(fmax(sqrt(fastest / TRACK_ERROR_RAD), 0.5 * takeover), most);
    if (wished > most) {
        cannot_keep(w, "observer's tracking", wished / (2.0 * CVK_PI_WIDE),
                    most / (2.0 * CVK_PI_WIDE),
                    "it would turn by more than 0.15 rad in a control period");
    }
    set(w, "observer.bandwidth_rad_s", fmin(PULL_SHARE * takeover, 0.5 * tracking),
        "gains: %.0f %% of the speed of the takeover", 100.0 * PULL_SHARE);
    set(w, "observer.tracking_bandwidth_rad_s", tracking,
        "gains: %slags by %.1f deg at %.0f rad/s^2", wished > 0.0 ? "as asked for; " : "",
        180.0 / CVK_PI_WIDE * fastest / (tracking * tracking), fastest);
    set(w, "observer.least_speed_rad_s", least,
        "gains: there the %.2g V that the model may be off by make 30 deg of angle error", doubt_v);
    const double per_wb = (w->l_q - w->l_d) / w->flux;
    if (per_wb * largest_current(w) > 1.0 - HIDES_SHARE) {
        w->out->hides_a = 1.0 / per_wb;
        w->out->first_a = fmin(start_a, (double)CVK_START_D_SHARE / per_wb);
    }
    set(w, "start.current_a", start_a, "gains: %.0f %% of limit.current_a", 100.0 * START_SHARE);
    set(w, "start.speed_rad_s", takeover, "gains: %.1f times observer.least_speed_rad_s", TAKEOVER);
    set(w, "start.patience_s", fmax(PATIENCE_S, PATIENCE_TURNS * 2.0 * CVK_PI_WIDE / takeover),
        "gains: %.0f electrical turns at the takeover's speed, in which the observer finds itself; "
        "at least %.0f s",
        PATIENCE_TURNS, PATIENCE_S);
    if (w->reach > 0.0) {
        const double swing_s = 2.0 * CVK_PI_WIDE / sqrt(w->reach * start_a);
        const double able = START_ACCELERATION * w->heavy * start_a;
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

/* ---- speed and position --------------------------------------------------------------------- */

static double tracking_of(const cvk_settings *s)
{
    const double share = s->rotor.kind == CVK_ROTOR_HALLS ? (double)CVK_HALLS_SHARE : 1.0;
    return s->angle.source == CVK_BY_ROTOR_SENSOR
               ? 2.0 * CVK_PI_WIDE * share * (double)s->rotor.bandwidth_hz
               : (double)s->observer.tracking_bandwidth_rad_s;
}

/* The loops on a shaft of that reach; an observer is slower in a slow rotor. */
static cvk_motion_loop loop_on(const work *w, double reach, bool slow)
{
    const cvk_settings *s = &w->out->settings;
    const bool paced = slow && s->angle.source != CVK_BY_ROTOR_SENSOR;
    const double takeover = (double)s->start.speed_rad_s, tracking = tracking_of(s);
    const double pace = s->injection.voltage_v > 0.0f
                            ? (double)s->injection.bandwidth_rad_s / tracking
                            : fmin(1.0, fmax((double)CVK_LEAST_PACE, takeover / tracking));
    return (cvk_motion_loop){.period_s = w->T,
                             .current_bandwidth_hz = w->out->current.bandwidth_hz,
                             .tracking_rad_s = tracking * (paced ? pace : 1.0),
                             .reach = reach,
                             .gain_a_s = (double)s->speed.gain_a_s,
                             .integral_gain_a = (double)s->speed.integral_gain_a,
                             .gain_per_s = (double)s->position.gain_per_s};
}

/* The corner with the least margin, and that margin. */
static double worst_corner(const work *w, cvk_loop_margin (*margin)(const cvk_motion_loop *),
                           cvk_motion_loop *worst)
{
    double least = INFINITY;
    for (int corner = 0; corner < 4; corner++) {
        const cvk_motion_loop l = loop_on(w, corner < 2 ? w->light : w->heavy, corner % 2 != 0);
        const double there = margin(&l).margin_rad;
        if (there < least) {
            least = there;
            *worst = l;
        }
    }
    return least;
}

static void judge_motion(const work *w, cvk_loop_margin (*margin)(const cvk_motion_loop *),
                         double bandwidth_rad_s, cvk_motion_prediction *out)
{
    cvk_motion_loop l = loop_on(w, w->reach, false);
    const cvk_settings *s = &w->out->settings;
    out->bandwidth_rad_s = bandwidth_rad_s;
    out->margin_rad = margin(&l).margin_rad;
    out->worst_margin_rad = worst_corner(w, margin, &l);
    out->damping_nms_rad =
        1.5 * w->pole_pairs * w->flux * (double)s->speed.gain_a_s * w->pole_pairs;
}

/* The integral is lowered where it takes the margin (a heavy shaft, a slow rotor), else the gain,
 * until the worst corner has its margin. */
static double settle_speed(work *w, double bandwidth)
{
    cvk_speed_settings *s = &w->out->settings.speed;
    double share = INTEGRAL_SHARE;
    for (int n = 0; n < 200; n++) {
        cvk_motion_loop l;
        s->gain_a_s = (float)(bandwidth / w->reach);
        s->integral_gain_a = (float)(share * bandwidth * bandwidth / w->reach);
        if (worst_corner(w, cvk_speed_loop_margin, &l) >= w->wish.margin_rad) {
            break;
        }
        l.integral_gain_a = 0.0;
        if (cvk_speed_loop_margin(&l).margin_rad > w->wish.margin_rad + INTEGRAL_RAD) {
            share *= SLOWER;
        } else {
            bandwidth *= SLOWER;
        }
    }
    return bandwidth;
}

/* Before the inertia is known a motor has to turn once: what the tune file says, or so little that
 * only a far error of the speed takes all the current. */
static void cautious_speed_loop(work *w)
{
    static const char why[] =
        "%s: the card has no inertia; record a spin and a coast-down, estimate, and compute the "
        "gains again";
    const cvk_speed_settings *s = &w->out->settings.speed;
    const bool given = s->gain_a_s > 0.0f;
    const char *from = given ? "as in the tune file" : "cautious";
    const double top = w->out->top_speed_rad_s;
    const double gain = largest_current(w) / (FAR_ERROR * top);
    set(w, "speed.gain_a_s", given ? (double)s->gain_a_s : gain, why, from);
    set(w, "speed.integral_gain_a", given ? (double)s->integral_gain_a : gain / CAUTIOUS_S, why,
        from);
    if (s->acceleration_rad_s2 == 0.0f) {
        set(w, "speed.acceleration_rad_s2", FIRST_SPEED * top / CAUTIOUS_S, why, "cautious");
    }
    set(w, "program.speed_rad_s",
        fmin((double)w->out->settings.program.speed_rad_s, FIRST_SPEED * top), why, "cautious");
}

static void speed_loop(work *w)
{
    const double current_a = SPEED_CURRENT_SHARE * largest_current(w);
    const cvk_settings *s = &w->out->settings;
    set(w, "speed.current_a", current_a, "gains: %.0f %% of limit.current_a",
        100.0 * SPEED_CURRENT_SHARE);
    if (w->reach <= 0.0) {
        cautious_speed_loop(w);
        return;
    }
    const double rule = fmin(SPEED_TO_TRACKING * tracking_of(s),
                             SPEED_TO_CURRENT * 2.0 * CVK_PI_WIDE * w->out->current.bandwidth_hz);
    const double wished = 2.0 * CVK_PI_WIDE * w->wish.speed_bandwidth_hz;
    const double bandwidth = settle_speed(w, wished > 0.0 ? wished : rule);
    if (bandwidth < wished) {
        cannot_keep(w, "speed", wished / (2.0 * CVK_PI_WIDE), bandwidth / (2.0 * CVK_PI_WIDE),
                    "it lacks phase margin with the lightest shaft, or in a slow rotor");
    }
    judge_motion(w, cvk_speed_loop_margin, bandwidth, &w->out->speed);
    w->out->speed.stiffness_nm_rad =
        1.5 * w->pole_pairs * w->flux * (double)s->speed.integral_gain_a * w->pole_pairs;
    set(w, "speed.gain_a_s", bandwidth / w->reach,
        "gains: bandwidth %.3g rad/s with the card's inertia; phase margin %.0f deg, %.0f deg at "
        "worst",
        bandwidth, 180.0 / CVK_PI_WIDE * w->out->speed.margin_rad,
        180.0 / CVK_PI_WIDE * w->out->speed.worst_margin_rad);
    const double integral = (double)s->speed.integral_gain_a;
    const bool real = integral * w->reach >= 0.99 * INTEGRAL_SHARE * bandwidth * bandwidth;
    set(w, "speed.integral_gain_a", integral, "gains: %s",
        real ? "both poles of the speed loop real, a quarter of the bandwidth"
             : "as much as leaves the worst corner its phase margin");
    const double acceleration = SLEW_SHARE * PLANNED_SHARE * w->heavy * largest_current(w);
    set(w, "speed.acceleration_rad_s2", acceleration,
        "gains: %.0f %% of what limit.current_a can do with the heaviest shaft",
        100.0 * SLEW_SHARE * PLANNED_SHARE);
    set(w, "speed.jerk_rad_s3", acceleration * bandwidth,
        "gains: the acceleration comes within a radian of the speed loop");
    set(w, "speed.feedforward_a_s2", 1.0 / w->reach,
        "gains: what the card's inertia takes, so that the loop need not wait for an error");
    set(w, "program.speed_rad_s", 0.6 * w->out->top_speed_rad_s,
        "gains: 60 %% of the speed at the end of the linear range");
}

static void position_loop(work *w)
{
    if (w->reach <= 0.0) {
        return;
    }
    const double wished = 2.0 * CVK_PI_WIDE * w->wish.position_bandwidth_hz;
    double bandwidth = wished > 0.0 ? wished : POSITION_TO_SPEED * w->out->speed.bandwidth_rad_s;
    cvk_motion_loop worst;
    float *gain = &w->out->settings.position.gain_per_s;
    *gain = (float)bandwidth;
    for (int n = 0; n < 200; n++) {
        if (worst_corner(w, cvk_position_loop_margin, &worst) >= w->wish.margin_rad) {
            break;
        }
        bandwidth *= SLOWER;
        *gain = (float)bandwidth;
    }
    if (bandwidth < wished) {
        cannot_keep(w, "position", wished / (2.0 * CVK_PI_WIDE), bandwidth / (2.0 * CVK_PI_WIDE),
                    "it lacks phase margin around the speed loop");
    }
    judge_motion(w, cvk_position_loop_margin, bandwidth, &w->out->position);
    w->out->position.stiffness_nm_rad = bandwidth * w->out->position.damping_nms_rad;
    set(w, "position.gain_per_s", bandwidth,
        "gains: %.2g of the speed loop's bandwidth; phase margin %.0f deg, %.0f deg at worst",
        bandwidth / w->out->speed.bandwidth_rad_s,
        180.0 / CVK_PI_WIDE * w->out->position.margin_rad,
        180.0 / CVK_PI_WIDE * w->out->position.worst_margin_rad);
    set(w, "position.speed_rad_s", 0.6 * w->out->top_speed_rad_s,
        "gains: 60 %% of the speed at the end of the linear range");
}

/* What a q current can do with the card's shaft, and at the ends of what is known. */
static void find_reach(work *w)
{
    const cvk_card_entry *j = &w->card->entry[CVK_CARD_INERTIA];
    if (j->known && j->value > 0.0 && j->low > 0.0) {
        const double torque = 1.5 * w->pole_pairs * w->pole_pairs * w->flux;
        const double share = half_share(w, CVK_CARD_FLUX_LINKAGE);
        w->reach = torque / j->value;
        w->light = (1.0 + share) * torque / j->low;
        w->heavy = (1.0 - share) * torque / (j->high + w->wish.load_inertia_kg_m2);
    }
}

/* ---- all of it ------------------------------------------------------------------------------ */

static bool card_suffices(work *w)
{
    static const cvk_card_key needed[] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                          CVK_CARD_INDUCTANCE_Q};
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

/* A motor that has never turned: what the tune file guesses of it makes it turn once, and the log
 * of that tells better. NaN: neither knows. */
static double known_or_guessed(work *w, cvk_card_key key, double guess, const char *how)
{
    const cvk_card_entry *e = &w->card->entry[key];
    if (e->known || guess > 0.0) {
        return e->known ? e->value : guess;
    }
    snprintf(w->out->missing, sizeof w->out->missing, "%s: guess it in the tune file, %s",
             cvk_card_key_name(key), how);
    return NAN;
}

cvk_status cvk_compute_gains(const cvk_card *card, const cvk_gains_stage *stage,
                             const cvk_settings *base, const cvk_gains_wish *wish, cvk_gains *out)
{
    if (card == NULL || stage == NULL || base == NULL || out == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    work w = {.card = card, .stage = stage, .out = out, .T = (double)stage->hardware.period_s};
    *out = (cvk_gains){.settings = *base};
    w.wish = wish != NULL ? *wish : (cvk_gains_wish){0};
    w.wish.margin_rad = w.wish.margin_rad > 0.0 ? w.wish.margin_rad : LEAST_MARGIN_RAD;
    if (!card_suffices(&w)) {
        return CVK_NOT_IN_LOG;
    }
    w.r = value_of(&w, CVK_CARD_RESISTANCE);
    w.l_d = value_of(&w, CVK_CARD_INDUCTANCE_D);
    w.l_q = value_of(&w, CVK_CARD_INDUCTANCE_Q);
    w.pole_pairs = known_or_guessed(&w, CVK_CARD_POLE_PAIRS, (double)base->motor.pole_pairs,
                                    "motor.pole_pairs: half the number of magnets");
    w.flux =
        known_or_guessed(&w, CVK_CARD_FLUX_LINKAGE, (double)base->motor.flux_linkage_wb,
                         "motor.flux_linkage_wb: bus voltage / sqrt 3 over the electrical speed "
                         "without load; then record a spin, estimate, and compute the gains "
                         "again");
    if (!isfinite(w.flux * w.pole_pairs)) {
        return CVK_NOT_IN_LOG;
    }
    w.inverter_v = value_of(&w, CVK_CARD_DEAD_TIME_VOLTAGE);
    find_reach(&w);
    const double current_a = PLANNED_SHARE * largest_current(&w);
    out->top_speed_rad_s =
        fmax(0.2 * stage->bus_v, stage->bus_v / sqrt(3.0) - w.r * current_a) / w.flux;
    motor(&w);
    inverter(&w);
    if (stage->current_delay_s > 0.0) {
        set(&w, "sensing.delay_s", stage->current_delay_s, "power stage: its current amplifiers");
    }
    current_loop(&w);
    observer_and_start(&w);
    injection(&w);
    speed_loop(&w);
    position_loop(&w);
    return out->missing[0] == '\0' ? CVK_OK : CVK_CONTRADICTION;
}
