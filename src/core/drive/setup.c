/* SPDX-License-Identifier: Apache-2.0
 *
 * From settings to the constants of the control call; what a mode needs to know.
 */
#include "base/setup.h"

#include "corvak/core/svm.h"

#include "base/arithmetic.h"
#include "angle/tracking.h"

#include <stddef.h>

/* Of the period's share that low-side windows leave; a little more than the two windows. */
#define WINDOW_MARGIN 2.1f
#define SHUNT_MARGIN 1.05f
/* A vector that is imposed stands anywhere to a rotor that does not follow: across it, d and q are
 * exchanged. The loop is made for no more than so many times the smaller inductance. */
#define MOST_EXCHANGED 2.0f
#define CURRENT_SHARE 0.7f /* of the limit, for the speed loop, when no other is set */
#define START_SHARE 0.7f   /* of the limit, for the start, when no other is set */
#define RISE_S 0.1f        /* the start's current rises within this time, */
#define RISE_SHARE 0.35f   /* or that share of start.align_s, if it is shorter */
#define WAY_RAD_S 400.0f   /* how fast the vector gives way, at most, */
#define WAY_SWINGS                                                                                 \
    2.0f /* and so many times as fast as the rotor swings: what it moves by itself is seen as well \
          */
#define SLIP_SHARE 0.3f      /* of start.patience_s, that a rotor may be out of step */
#define YIELD_SHARE 0.75f    /* of start.speed_rad_s */
#define SETTLED_S 0.02f      /* the observer must agree so long */
#define LOST_S 0.02f         /* and may be without an idea so long */
#define FILTER_RATIO 4.0f    /* of the back-EMF's filter to the tracking filter */
#define QUALITY_RAD 0.5236f  /* spread of the error at the least speed: 30 degrees */
#define MOST_TURNED_RAD 2.5f /* in a control period, of an observer */
#define SEEK_S 0.03f         /* each step of the search for the axis */
#define SEEK_BANDWIDTH_RAD_S 150.0f
#define WEAKENING_RATIO 0.05f /* of the current loop's bandwidth */
#define WEAKENING_FROM 0.3f
#define MOST_LOST                                                                                  \
    0.04f            /* of the linear range, cut off by six steps: a flat-topped wave loses that */
#define ADAPT_S 0.3f /* in which a misfit is taken up */
#define STUCK_RAD 0.6f   /* electrical, that the rotor goes on while the sensor's reading stays */
#define STUCK_STEPS 4.0f /* and steps of the sensor */
#define ANEW_S 0.01f     /* bridge off: a rotor elsewhere for so long is believed to be there */
#define SEEN 0.97f       /* of a channel's range: offset and gain take the rest */
#define DISPUTE_S 0.02f  /* sensor and observer apart for so long: one of the two is wrong */

void cvk_tracking_gains(float bandwidth_rad_s, float period_s, float *gain_angle, float *gain_speed)
{
    const float r = expf(-bandwidth_rad_s * period_s);
    *gain_angle = 1.0f - r * r;
    *gain_speed = (1.0f - r) * (1.0f - r) / period_s;
}

static cvk_status prepare_current(cvk_setup *setup, cvk_refusal *why)
{
    const cvk_settings *s = &setup->settings;
    const float most_hz = 0.0625f / setup->period_s;
    if (s->current.bandwidth_hz > most_hz) {
        if (why != NULL) {
            *why = (cvk_refusal){
                .field = "current.bandwidth_hz",
                .value = s->current.bandwidth_hz,
                .low = 1.0f,
                .high = most_hz,
                .against = "the control rate",
                .reason = "the current loop can be at most 1/16 of the control rate: lower it, or "
                          "control faster"};
        }
        return CVK_CONTRADICTION;
    }
    if (s->motor.inductance_d_h == 0.0f || s->motor.inductance_q_h == 0.0f) {
        return CVK_OK; /* not known: modes that need them are refused */
    }
    cvk_current_control_config config = {setup->period_s,          s->current.bandwidth_hz,
                                         s->motor.resistance_ohm,  s->motor.inductance_d_h,
                                         s->motor.inductance_q_h,  s->motor.flux_linkage_wb,
                                         s->current.harmonics != 0};
    const cvk_status status = cvk_current_control_prepare(&setup->current, &config, why);
    const float most_h = config.inductance_d_h < config.inductance_q_h
                             ? MOST_EXCHANGED * config.inductance_d_h
                             : MOST_EXCHANGED * config.inductance_q_h;
    config.inductance_d_h = config.inductance_d_h < most_h ? config.inductance_d_h : most_h;
    config.inductance_q_h = config.inductance_q_h < most_h ? config.inductance_q_h : most_h;
    return status == CVK_OK ? cvk_current_control_prepare(&setup->current_imposed, &config, why)
                            : status;
}

static void prepare_halls(cvk_rotor_constants *c, const cvk_rotor_settings *s)
{
    const float late[CVK_ROTOR_EDGES] = {s->hall_edge_1_rad, s->hall_edge_2_rad,
                                         s->hall_edge_3_rad, s->hall_edge_4_rad,
                                         s->hall_edge_5_rad, s->hall_edge_6_rad};
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        c->hall_edge_rad[n] = CVK_PI / 3.0f * ((float)n + 0.5f) + late[n];
    }
    c->half_hysteresis_rad = 0.5f * s->hall_hysteresis_rad;
}

static void prepare_rotor(cvk_setup *setup)
{
    const cvk_rotor_settings *s = &setup->settings.rotor;
    cvk_rotor_constants *c = &setup->rotor;
    const float pole_pairs = (float)setup->settings.motor.pole_pairs;
    const float sign = s->reversed != 0 ? -1.0f : 1.0f, T = setup->period_s;
    const float periods = s->periods_per_turn > 0 ? (float)s->periods_per_turn : pole_pairs;
    const bool shaft = s->kind == CVK_ROTOR_ABSOLUTE || s->kind == CVK_ROTOR_ENCODER;
    c->ratio = sign * (shaft                                           ? pole_pairs
                       : s->kind == CVK_ROTOR_SINCOS && periods > 0.0f ? pole_pairs / periods
                                                                       : 1.0f);
    c->per_count_rad = CVK_TWO_PI / (float)s->counts;
    c->index_counts = (int32_t)(s->index_rad / c->per_count_rad);
    c->index_doubt_counts = s->counts / 64;
    c->stuck_rad = STUCK_STEPS * (s->kind == CVK_ROTOR_ENCODER ? pole_pairs * c->per_count_rad : 0);
    c->stuck_rad = c->stuck_rad > STUCK_RAD ? c->stuck_rad : STUCK_RAD;
    c->per_gain = 1.0f / s->gain_ratio;
    const cvk_rotation lean = cvk_rotation_of(s->quadrature_rad);
    c->per_cos_lean = 1.0f / lean.cosine;
    c->tan_lean = lean.sine / lean.cosine;
    c->corrected = s->cosine_1_rad != 0.0f || s->sine_1_rad != 0.0f || s->cosine_2_rad != 0.0f ||
                   s->sine_2_rad != 0.0f;
    c->per_volt = s->tachometer_v_s != 0.0f ? pole_pairs / s->tachometer_v_s : 0.0f;
    c->anew_ticks = cvk_ticks_of(ANEW_S, T);
    c->dispute_ticks = cvk_ticks_of(DISPUTE_S, T);
    prepare_halls(c, s);
    /* six readings a turn are too few for as much: what is between them would swing */
    const float bandwidth = (s->kind == CVK_ROTOR_HALLS ? CVK_HALLS_SHARE : 1.0f) * s->bandwidth_hz;
    cvk_tracking_gains(CVK_TWO_PI * bandwidth, T, &c->gain_angle, &c->gain_speed);
}

static float lower(float a, float b)
{
    return a < b ? a : b;
}

static void prepare_start(cvk_setup *setup)
{
    const cvk_settings *s = &setup->settings;
    const float T = setup->period_s, limit_a = s->limit.current_a;
    const float wanted_a = s->start.current_a > 0.0f ? s->start.current_a : START_SHARE * limit_a;
    const float saliency_h = s->motor.inductance_q_h - s->motor.inductance_d_h;
    const float quick_s = RISE_SHARE * s->start.align_s;
    const float rise_s = quick_s < RISE_S && quick_s > 0.0f ? quick_s : RISE_S;
    cvk_start_constants *start = &setup->start;
    start->saliency_h = saliency_h > 0.0f ? saliency_h : 0.0f;
    start->most_d_a = saliency_h * limit_a > CVK_START_D_SHARE * s->motor.flux_linkage_wb
                          ? CVK_START_D_SHARE * s->motor.flux_linkage_wb / saliency_h
                          : limit_a;
    start->pulse_a = wanted_a;
    start->current_a = lower(wanted_a, start->most_d_a);
    start->current_step_a = wanted_a * T / rise_s;
    start->yield_rad_s = YIELD_SHARE * s->start.speed_rad_s;
    const float swing_rad_s = WAY_SWINGS / (s->start.damping_s + WAY_SWINGS / WAY_RAD_S);
    start->way_step_rad = swing_rad_s * T;
    start->speed_step_rad_s = s->start.acceleration_rad_s2 * T;
    start->align_ticks = cvk_ticks_of(s->start.align_s, T);
    start->patience_ticks = cvk_ticks_of(s->start.patience_s, T);
    start->slip_ticks = cvk_ticks_of(SLIP_SHARE * s->start.patience_s, T);
    start->settle_ticks = cvk_ticks_of(SETTLED_S, T);
    start->lost_ticks = cvk_ticks_of(LOST_S, T);
}

static void prepare_observer(cvk_setup *setup)
{
    const cvk_observer_settings *s = &setup->settings.observer;
    cvk_observer_constants *c = &setup->observer;
    const float T = setup->period_s, turn = s->tracking_bandwidth_rad_s * T;
    c->chosen = cvk_observer_source(s->kind);
    c->pull = 1.0f - expf(-s->bandwidth_rad_s * T);
    c->filter = 1.0f - expf(-FILTER_RATIO * turn);
    c->most_rad_s = MOST_TURNED_RAD / T;
    c->pace_per_rad_s = 1.0f / s->tracking_bandwidth_rad_s;
    c->pace_least = CVK_LEAST_PACE;
    c->drift_speed_rad = turn * turn;
    c->doubt_rad_s = QUALITY_RAD * s->least_speed_rad_s;
    c->adapting = s->adapt != 0 ? (float)CVK_JUDGE_TICKS * T / ADAPT_S : 0.0f;
    cvk_tracking_gains(s->tracking_bandwidth_rad_s, T, &c->gain_angle, &c->gain_speed);
}

static void prepare_injection(cvk_setup *setup)
{
    const cvk_injection_settings *s = &setup->settings.injection;
    const cvk_motor_settings *m = &setup->settings.motor;
    cvk_injection_constants *c = &setup->injection;
    const float T = setup->period_s, volts = s->voltage_v * T;
    if (!(volts > 0.0f && m->inductance_d_h > 0.0f && m->inductance_q_h > 0.0f)) {
        return;
    }
    const float per_d = 1.0f / m->inductance_d_h, per_q = 1.0f / m->inductance_q_h;
    float unused;
    c->swing_a = 0.5f * volts * (per_d + per_q);
    c->rad_per_a = 1.0f / (volts * (per_d - per_q));
    cvk_tracking_gains(s->bandwidth_rad_s, T, &c->gain_angle, &c->gain_speed);
    cvk_tracking_gains(SEEK_BANDWIDTH_RAD_S, T, &c->seek_gain, &unused);
    setup->at_rest = CVK_ANGLE_INJECTION;
    setup->leave_rest_rad_s = s->leave_rad_s;
    setup->start.seek_ticks = cvk_ticks_of(SEEK_S, T);
    setup->start.pulse_ticks = cvk_ticks_of(s->pulse_s, T);
}

static void prepare_torque(cvk_setup *setup)
{
    static const float used[CVK_DEPTHS] = {[CVK_DEPTH_SINE] = 0.95f * 0.8660254f,
                                           [CVK_DEPTH_LINEAR] = 0.95f,
                                           [CVK_DEPTH_HEXAGON] = 0.98f,
                                           [CVK_DEPTH_SIX_STEP] = 1.08f};
    const cvk_settings *s = &setup->settings;
    const cvk_motor_settings *m = &s->motor;
    cvk_torque_constants *c = &setup->torque;
    const bool known = m->inductance_d_h > 0.0f && m->flux_linkage_wb > 0.0f;
    const float most_a = s->torque.weakening_current_a;
    c->most_a = most_a > 0.0f ? most_a : s->limit.current_a;
    if (s->torque.least_current != 0 && known && m->inductance_q_h > m->inductance_d_h) {
        c->saliency_h = m->inductance_q_h - m->inductance_d_h;
    }
    if (s->torque.weakening != 0 && known) {
        c->share = WEAKENING_RATIO * CVK_TWO_PI * s->current.bandwidth_hz * setup->period_s;
        c->most_used = used[s->modulation.depth];
        c->most_lost = s->modulation.depth == CVK_DEPTH_SIX_STEP ? MOST_LOST : INFINITY;
        c->least_speed_rad_s = WEAKENING_FROM * s->protect.bus_min_v / m->flux_linkage_wb;
    }
}

float cvk_hardware_most_duty(const cvk_hardware *hardware)
{
    const float pwm_hz = 1.0f / (hardware->period_s * (float)hardware->updates_per_period);
    const float windows = hardware->current_sensing == CVK_CURRENTS_LOW_SIDE       ? WINDOW_MARGIN
                          : hardware->current_sensing == CVK_CURRENTS_SINGLE_SHUNT ? SHUNT_MARGIN
                                                                                   : 0.0f;
    return 1.0f - windows * hardware->window_s * pwm_hz;
}

cvk_bounds cvk_bounds_of(const cvk_settings *s)
{
    return (cvk_bounds){s->protect.trip_current_a, s->protect.bus_min_v, s->protect.bus_max_v,
                        s->limit.current_a, s->limit.current_a * s->limit.current_a};
}

cvk_bounds cvk_bounds_tighter(cvk_bounds a, cvk_bounds b)
{
    const float current_a = lower(a.current_a, b.current_a);
    return (cvk_bounds){lower(a.trip_current_a, b.trip_current_a),
                        -lower(-a.bus_min_v, -b.bus_min_v), lower(a.bus_max_v, b.bus_max_v),
                        current_a, current_a * current_a};
}

static float or_none(float ceiling)
{
    return ceiling > 0.0f ? ceiling : INFINITY;
}

/* What is soldered is stronger than any setting. */
static cvk_status check_ceilings(const cvk_hardware *h, const cvk_settings *s, cvk_refusal *why)
{
    const struct {
        const char *key;
        float value, most;
        const char *against, *reason;
    } ceilings[] = {
        {"protect.trip_current_a", s->protect.trip_current_a, SEEN * or_none(h->current_range_a),
         "the current channels' range", "beyond it no trip would ever come; lower it"},
        {"protect.bus_max_v", s->protect.bus_max_v, SEEN * or_none(h->bus_range_v),
         "the bus channel's range", "a bus beyond it would not be seen; lower it"},
        {"protect.trip_current_a", s->protect.trip_current_a, or_none(h->stage_current_a),
         "the power stage", "it bears no more; lower it"},
        {"protect.bus_max_v", s->protect.bus_max_v, or_none(h->stage_bus_v), "the power stage",
         "it bears no more; lower it"},
    };
    for (unsigned n = 0; n < sizeof ceilings / sizeof ceilings[0]; n++) {
        if (ceilings[n].value > ceilings[n].most) {
            if (why != NULL) {
                *why = (cvk_refusal){.field = ceilings[n].key,
                                     .value = ceilings[n].value,
                                     .high = ceilings[n].most,
                                     .against = ceilings[n].against,
                                     .reason = ceilings[n].reason};
            }
            return CVK_CONTRADICTION;
        }
    }
    return CVK_OK;
}

cvk_status cvk_setup_prepare(cvk_setup *setup, const cvk_hardware *hardware,
                             const cvk_settings *settings, cvk_refusal *why)
{
    cvk_status status = cvk_settings_check(settings, why);
    *setup = (cvk_setup){
        .settings = *settings, .bounds = cvk_bounds_of(settings), .period_s = hardware->period_s};
    if (status == CVK_OK) {
        status = check_ceilings(hardware, settings, why);
    }
    if (status == CVK_OK) {
        status = prepare_current(setup, why);
    }
    if (status == CVK_OK) {
        prepare_rotor(setup);
        prepare_observer(setup);
        prepare_start(setup);
        prepare_injection(setup);
        prepare_torque(setup);
        const cvk_speed_settings *speed = &setup->settings.speed;
        setup->rest_ticks = cvk_ticks_of(setup->settings.sensing.rest_s, setup->period_s);
        setup->speed_current_a = speed->current_a > 0.0f
                                     ? speed->current_a
                                     : CURRENT_SHARE * setup->settings.limit.current_a;
        const cvk_motor_settings *m = &setup->settings.motor;
        const float torque_per_a = 1.5f * (float)m->pole_pairs * m->flux_linkage_wb;
        setup->current_per_torque = torque_per_a > 0.0f ? 1.0f / torque_per_a : 0.0f;
        setup->most_duty = cvk_hardware_most_duty(hardware);
        setup->shunt_window =
            hardware->current_sensing == CVK_CURRENTS_SINGLE_SHUNT ? 1.0f - setup->most_duty : 0.0f;
        setup->pole_pairs = m->pole_pairs > 0 ? m->pole_pairs : 1;
        setup->per_pole_pair = 1.0f / (float)setup->pole_pairs;
    }
    return status;
}

/* ---- what a mode needs ---------------------------------------------------------------------- */

static cvk_status unknown(const char *field, const char *mode, const char *reason, cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){.field = field, .against = mode, .reason = reason};
    }
    return CVK_CONTRADICTION;
}

/* Why the sensor's offset does not hold, and what would make it. */
static cvk_status needs_alignment(const cvk_rotor_settings *s, const char *mode, cvk_refusal *why)
{
    return unknown(
        "rotor.startup", mode,
        s->startup == CVK_ROTOR_INDEX
            ? "the encoder's index mark has not gone by since power-up: turn the shaft "
              "once, by hand or with an imposed angle"
        : s->startup == CVK_ROTOR_CALIBRATE
            ? "a calibration is asked for after each power-up: run one (corvak "
              "calibrate), or set rotor.startup"
            : "an encoder's counts begin anywhere at power-up: a stored offset held until "
              "then. Set rotor.startup: index (with a mark), or calibrate",
        why);
}

static cvk_status needs_sensor(const cvk_settings *s, const char *mode, cvk_refusal *why)
{
    if (s->rotor.kind == CVK_ROTOR_NONE || s->rotor.kind == CVK_ROTOR_TACHOMETER) {
        return unknown("rotor.kind", mode,
                       "there is no rotor sensor that tells an angle: name its kind", why);
    }
    return s->motor.pole_pairs == 0
               ? unknown("motor.pole_pairs", mode, "a rotor sensor needs them: estimate them", why)
               : CVK_OK;
}

static cvk_status needs_angle(const cvk_setup *setup, const char *mode, bool rotor_known,
                              cvk_refusal *why)
{
    const cvk_settings *s = &setup->settings;
    const bool by_sensor = s->angle.source == CVK_BY_ROTOR_SENSOR;
    if (by_sensor && s->motor.pole_pairs == 0) {
        return unknown("motor.pole_pairs", mode, "a rotor sensor needs them: estimate them", why);
    }
    if (by_sensor && s->rotor.kind == CVK_ROTOR_NONE) {
        return unknown("rotor.kind", mode,
                       "the angle comes from a rotor sensor, and there is none: name its kind, or "
                       "set angle.source: observer",
                       why);
    }
    if (by_sensor && s->rotor.kind == CVK_ROTOR_TACHOMETER) {
        return unknown("rotor.kind", mode,
                       "a tachometer tells the speed alone: set angle.source: observer", why);
    }
    if (by_sensor && !rotor_known) {
        return needs_alignment(&s->rotor, mode, why);
    }
    if (!by_sensor && (s->motor.flux_linkage_wb == 0.0f || s->motor.resistance_ohm == 0.0f)) {
        return unknown(s->motor.flux_linkage_wb == 0.0f ? "motor.flux_linkage_wb"
                                                        : "motor.resistance_ohm",
                       mode, "an observer needs it: estimate it", why);
    }
    return CVK_OK;
}

/* What a move lacks; null when nothing. */
static const char *unknown_position(const cvk_settings *s)
{
    return s->position.gain_per_s == 0.0f         ? "position.gain_per_s"
           : s->position.speed_rad_s == 0.0f      ? "position.speed_rad_s"
           : s->speed.acceleration_rad_s2 == 0.0f ? "speed.acceleration_rad_s2"
           : s->motor.pole_pairs == 0             ? "motor.pole_pairs"
                                                  : NULL;
}

cvk_status cvk_setup_allows(const cvk_setup *setup, cvk_mode mode, bool rotor_known,
                            cvk_refusal *why)
{
    const cvk_settings *s = &setup->settings;
    const char *name = cvk_mode_text(mode);
    if (mode == CVK_MODE_OFF || mode == CVK_MODE_REST || mode == CVK_MODE_VOLTAGE) {
        return CVK_OK;
    }
    if (mode == CVK_MODE_CALIBRATE) {
        return needs_sensor(s, name, why);
    }
    if (s->motor.inductance_d_h == 0.0f || s->motor.inductance_q_h == 0.0f) {
        return unknown(s->motor.inductance_d_h == 0.0f ? "motor.inductance_d_h"
                                                       : "motor.inductance_q_h",
                       name, "the current loop needs it: estimate it (corvak gains)", why);
    }
    if (mode == CVK_MODE_TORQUE && setup->current_per_torque == 0.0f) {
        return unknown(s->motor.pole_pairs == 0 ? "motor.pole_pairs" : "motor.flux_linkage_wb",
                       name, "a torque needs it to become a current: estimate it", why);
    }
    if (mode == CVK_MODE_POSITION && unknown_position(s) != NULL) {
        return unknown(unknown_position(s), name, "a move needs it (corvak gains)", why);
    }
    const cvk_status status =
        mode == CVK_MODE_IMPOSED ? CVK_OK : needs_angle(setup, name, rotor_known, why);
    if (status == CVK_OK && (mode == CVK_MODE_SPEED || mode == CVK_MODE_POSITION) &&
        s->speed.gain_a_s == 0.0f) {
        return unknown(
            "speed.gain_a_s", name,
            "a speed loop needs it, and it needs the inertia: estimate that from a spin and "
            "a coast-down, then corvak gains; or set it by hand",
            why);
    }
    return status;
}
