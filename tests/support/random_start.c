/* SPDX-License-Identifier: Apache-2.0
 *
 * Starts of random motors.
 */
#include "random_start.h"

#include "corvak/host/gains.h"
#include "corvak/sim/sim.h"
#include "draw.h"
#include "recording.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define PI 3.14159265358979323846
#define ERROR_R 0.05
#define ERROR_L 0.05
#define ERROR_FLUX 0.02
#define ERROR_INERTIA 0.1
#define SPEED_SHARE 0.2 /* of the speed without load */
#define MEAN_S 0.03
#define NEAR 0.1

/* ---- a motor and its bench ------------------------------------------------------------------- */

/* What the rest follows from; false when no such motor is built. */
typedef struct outline {
    double bus_v, period_s, pole_pairs, l_d, l_q, flux, limit_a, r, top_rad_s;
} outline;

static bool draw_outline(uint64_t *n, outline *o)
{
    o->bus_v = draw_ratio(n, 12.0, 60.0);
    o->period_s = 1.0 / draw_ratio(n, 8e3, 80e3);
    o->pole_pairs = floor(draw_ratio(n, 1.0, 41.0));
    o->l_d = draw_ratio(n, 3e-6, 10e-3);
    const double saliency = draw_between(n, 1.0, 4.0);
    o->top_rad_s = draw_ratio(n, 150.0, fmin(0.5 / o->period_s, 12000.0));
    const double armature =
        draw_ratio(n, 0.05, 1.2); /* flux of the limit's current over the magnets' */
    const double drop = draw_ratio(n, 0.02, 0.25);
    o->l_q = o->l_d * saliency;
    o->flux = o->bus_v / sqrt(3.0) / o->top_rad_s;
    o->limit_a = armature * o->flux / o->l_q;
    o->r = drop * o->bus_v / sqrt(3.0) / o->limit_a;
    const double ripple_a = o->bus_v * o->period_s / (6.0 * o->l_d);
    return o->limit_a > 0.5 && o->limit_a < 200.0 && o->r > 3e-3 && o->r < 15.0 &&
           ripple_a < 0.4 * o->limit_a && o->l_d / o->r > 3.0 * o->period_s;
}

static void shape_motor(uint64_t *n, const outline *o, cvk_rig_motor *m)
{
    m->pole_pairs = o->pole_pairs;
    m->inductance_d_h = o->l_d;
    m->inductance_q_h = o->l_q;
    m->flux_linkage_wb = o->flux;
    m->saturation_d_a = o->limit_a * draw_between(n, 2.0, 6.0);
    m->saturation_q_a = o->limit_a * draw_between(n, 1.5, 5.0);
    m->saturation_bias = draw_between(n, 0.0, 0.3);
    m->cross_saturation = draw_between(n, 0.0, 0.1);
    m->emf_harmonic_5 = draw_between(n, -0.01, 0.01);
    m->emf_harmonic_7 = draw_between(n, -0.005, 0.005);
    m->magnet_spread = draw_between(n, 0.0, 0.01);
    m->iron_loss_ohm = o->r * draw_ratio(n, 300.0, 3000.0);
    m->winding_k_w = 40.0 / (1.5 * o->limit_a * o->limit_a * o->r);
    m->winding_j_k = 1.5 * o->limit_a * o->limit_a * o->r; /* a kelvin a second */
}

static void shape_shaft(uint64_t *n, const outline *o, cvk_rig_shaft *s)
{
    const double torque = 1.5 * o->pole_pairs * o->flux * o->limit_a;
    const double top_mech = o->top_rad_s / o->pole_pairs;
    s->inertia_kg_m2 = torque * draw_ratio(n, 0.05, 1.5) / top_mech;
    s->friction_coulomb_nm = torque * draw_between(n, 0.005, 0.04);
    s->friction_static_nm = s->friction_coulomb_nm * draw_between(n, 1.0, 1.5);
    s->friction_viscous_nm_s = torque * draw_between(n, 0.01, 0.05) / top_mech;
    s->cogging_nm = torque * draw_between(n, 0.0, 0.015);
    s->load_inertia_kg_m2 = 0.0;
}

static void shape_stage(uint64_t *n, const outline *o, cvk_rig_config *b)
{
    const double switch_ohm = fmin(o->r * draw_between(n, 0.05, 0.2), 1.0);
    b->motor.resistance_ohm = o->r - switch_ohm;
    b->inverter.pwm_hz = 1.0 / o->period_s;
    b->inverter.updates_per_period = 1.0;
    b->inverter.switch_resistance_ohm = switch_ohm;
    b->inverter.dead_time_s = fmin(fmax(o->period_s * draw_between(n, 0.004, 0.016), 100e-9), 1e-6);
    b->inverter.minimum_pulse_s = 0.5 * b->inverter.dead_time_s;
    b->inverter.output_capacitance_f =
        draw_ratio(n, 0.01, 0.1) * o->limit_a * b->inverter.dead_time_s / o->bus_v;
    b->supply.bus_v = o->bus_v;
    b->supply.resistance_ohm = 0.02 * o->bus_v / o->limit_a;
    b->supply.capacitor_f = fmax(1e-5, o->limit_a * o->period_s / (0.01 * o->bus_v));
    b->sensing.current_sensing = draw_even(n) < 0.5 ? CVK_SENSING_INLINE : CVK_SENSING_THREE_SHUNTS;
    b->sensing.current_range_a = 2.0 * o->limit_a;
    b->sensing.amplifier_range_a = 3.0 * o->limit_a;
    b->sensing.current_noise_a = o->limit_a * draw_ratio(n, 0.001, 0.008);
    b->sensing.current_offset_a = 0.01 * o->limit_a;
    b->sensing.current_drift_a_s = 1e-4 * o->limit_a;
    b->sensing.amplifier_lag_s = fmin(0.2e-6, 0.01 * o->period_s);
    b->sensing.ringing_a = 0.05 * o->limit_a;
    b->sensing.ringing_decay_s = 100e-9;
    b->sensing.settling_s = fmin(0.6e-6, 0.03 * o->period_s);
    b->sensing.voltage_range_v = 1.6 * o->bus_v;
    b->sensing.voltage_noise_v = 0.001 * o->bus_v;
    b->sensing.terminal_voltages =
        draw_even(n) < 0.5 ? CVK_TERMINALS_MEASURED : CVK_TERMINALS_NOT_MEASURED;
    b->gate_driver.overcurrent_a = 0.0;
    b->rotor_sensor.kind = CVK_ROTOR_NONE;
    b->rotor_sensor.counts = 0.0;
    b->tune.protect.trip_current_a = (float)(o->limit_a * 1.6);
    b->tune.protect.bus_min_v = (float)(0.5 * o->bus_v);
    b->tune.protect.bus_max_v = (float)(1.5 * o->bus_v);
    b->tune.limit.current_a = (float)o->limit_a;
}

cvk_rig_config random_motor(uint64_t number)
{
    uint64_t n = number * 7919u + 17u;
    outline o;
    cvk_rig_config b = studio_rig("wheel"); /* for all that is not drawn */
    while (!draw_outline(&n, &o)) {
    }
    snprintf(b.name, sizeof b.name, "random %u", (unsigned)number);
    b.tune = cvk_settings_default();
    shape_motor(&n, &o, &b.motor);
    shape_shaft(&n, &o, &b.shaft);
    shape_stage(&n, &o, &b);
    return b;
}

/* ---- its card -------------------------------------------------------------------------------- */

static void know(cvk_card *card, cvk_card_key key, double truth, double most, double off)
{
    cvk_card_entry *e = &card->entry[key];
    const double value = truth * (1.0 + most * off);
    *e = (cvk_card_entry){.known = true,
                          .value = value,
                          .low = value * (1.0 - most),
                          .high = value * (1.0 + most),
                          .statistical_low = value * (1.0 - most),
                          .statistical_high = value * (1.0 + most),
                          .probability = 1.0};
}

/* Each value off by up to what its interval says: evenly. */
static cvk_card card_of(const cvk_rig_config *b, uint64_t *n, bool exact)
{
    static cvk_card card;
    card = (cvk_card){.name = ""};
    const double off[] = {2.0 * draw_even(n) - 1.0, 2.0 * draw_even(n) - 1.0,
                          2.0 * draw_even(n) - 1.0, 2.0 * draw_even(n) - 1.0,
                          2.0 * draw_even(n) - 1.0};
    const double is = exact ? 0.0 : 1.0;
    know(&card, CVK_CARD_RESISTANCE, cvk_rig_visible_resistance(b), ERROR_R, is * off[0]);
    know(&card, CVK_CARD_INDUCTANCE_D, b->motor.inductance_d_h, ERROR_L, is * off[1]);
    know(&card, CVK_CARD_INDUCTANCE_Q, b->motor.inductance_q_h, ERROR_L, is * off[2]);
    know(&card, CVK_CARD_FLUX_LINKAGE, b->motor.flux_linkage_wb, ERROR_FLUX, is * off[3]);
    know(&card, CVK_CARD_POLE_PAIRS, b->motor.pole_pairs, 0.0, 0.0);
    know(&card, CVK_CARD_INERTIA, b->shaft.inertia_kg_m2, ERROR_INERTIA, is * off[4]);
    know(&card, CVK_CARD_DEAD_TIME_VOLTAGE, cvk_rig_dead_time_voltage(b), 0.05, is * off[4]);
    return card;
}

static bool give_gains(random_start *s, uint64_t *n, bool exact)
{
    static cvk_gains gains;
    cvk_rig_config *b = &s->bench;
    const cvk_card card = card_of(b, n, exact);
    const cvk_gains_stage stage = {.hardware = cvk_sim_hardware(b),
                                   .bus_v = b->supply.bus_v,
                                   .current_noise_a = b->sensing.current_noise_a,
                                   .current_delay_s = b->sensing.amplifier_lag_s,
                                   .knee_a = cvk_rig_crossover_current(b)};
    b->tune.angle.source = CVK_BY_OBSERVER;
    const cvk_status status = cvk_compute_gains(&card, &stage, &b->tune, NULL, &gains);
    b->tune = gains.settings;
    snprintf(s->why, sizeof s->why, "%s", status == CVK_OK ? "" : gains.missing);
    return status == CVK_OK;
}

/* ---- the run --------------------------------------------------------------------------------- */

typedef struct work {
    cvk_sim sim;
    const random_start_options *options;
    random_start *out;
    const cvk_moment *now;
    double pole_pairs, mean_rad_s, period_s, time_s, next_s;
    int32_t phase, attempt;
} work;

static void tell(work *w)
{
    const cvk_moment *m = w->now;
    const bool now = w->time_s > w->next_s;
    if (m->start_phase != w->phase || m->start_attempt != w->attempt || now) {
        const double true_rad = cvk_rig_electrical_angle(w->sim.rig);
        const cvk_angle *seen = &m->source[CVK_ANGLE_FLUX];
        printf(
            "  %8.4f s  %-6s %d (%s)  speed %7.1f set %7.1f  by %-8s  trails %5.0f deg  observer "
            "off %5.0f deg, %7.1f rad/s, quality %.2f  follow %5.2f  d %6.2f q %6.2f A\n",
            w->time_s, cvk_start_phase_text((cvk_start_phase)m->start_phase), m->start_attempt,
            cvk_start_reason_text((cvk_start_reason)m->start_reason),
            cvk_rig_state_of(w->sim.rig)->speed_mech_rad_s * w->pole_pairs,
            m->start_phase < CVK_START_RUN ? (double)m->angle.speed_rad_s
                                           : (double)m->speed_set_rad_s,
            cvk_angle_source_text((cvk_angle_source)m->angle_source),
            180.0 / PI * remainder((double)m->angle.angle_rad - true_rad, 2.0 * PI),
            180.0 / PI * remainder((double)seen->angle_rad - true_rad, 2.0 * PI),
            (double)seen->speed_rad_s, (double)seen->quality, (double)m->start_follow,
            (double)m->current_a.d, (double)m->current_a.q);
        w->phase = m->start_phase;
        w->attempt = m->start_attempt;
        const char *spacing = getenv("TRACE_S");
        w->next_s = now ? w->time_s + (spacing != NULL ? atof(spacing) : 0.1) : w->next_s;
    }
}

static void note_quality(work *w)
{
    const cvk_angle *seen = &w->now->source[CVK_ANGLE_FLUX];
    const double off = (double)seen->angle_rad - cvk_rig_electrical_angle(w->sim.rig);
    if (w->now->bridge_on != 0 && seen->reason != CVK_ANGLE_OFF) {
        const int bin = (int)fmin(9.0, 10.0 * (double)seen->quality);
        w->out->rows[bin] += 1.0;
        w->out->within[bin] += fabs(remainder(off, 2.0 * PI)) < PI / 6.0 ? 1.0 : 0.0;
    }
}

static bool step(work *w)
{
    const cvk_sim_row row = cvk_sim_step(&w->sim);
    const cvk_rig_state *truth = cvk_rig_state_of(w->sim.rig);
    w->now = row.now;
    w->time_s += w->period_s;
    w->mean_rad_s +=
        w->period_s / MEAN_S * (truth->speed_mech_rad_s * w->pole_pairs - w->mean_rad_s);
    double flows_a[3];
    cvk_rig_true_current(w->sim.rig, flows_a);
    for (int k = 0; k < 3; k++) {
        w->out->current_a = fmax(w->out->current_a, fabs(flows_a[k]));
    }
    note_quality(w);
    w->out->fault = (cvk_fault)row.now->fault;
    w->out->reason = (cvk_start_reason)row.now->start_reason;
    w->out->attempts =
        row.now->start_attempt > w->out->attempts ? row.now->start_attempt : w->out->attempts;
    if (w->options->trace) {
        tell(w);
    }
    return w->out->fault == CVK_FAULT_NONE;
}

static bool ask(work *w, int32_t mode, double speed_rad_s)
{
    const cvk_request r = {.mode = mode, .speed_rad_s = (float)speed_rad_s};
    return cvk_drive_request(&w->sim.drive, CVK_SIM_OWNER, &r, NULL) == CVK_OK;
}

static bool wait(work *w, double length_s)
{
    bool goes = true;
    for (double t = 0.0; t < length_s && goes; t += w->period_s) {
        goes = step(w);
    }
    return goes;
}

/* Until the true mean speed is near what is asked for, and stays there. */
static bool reach(work *w, double speed_rad_s, double longest_s)
{
    double there_s = 0.0;
    bool goes = ask(w, CVK_MODE_SPEED, speed_rad_s);
    for (double t = 0.0; t < longest_s && goes && there_s < 0.2; t += w->period_s) {
        goes = step(w);
        const bool near = fabs(w->mean_rad_s - speed_rad_s) < NEAR * fabs(speed_rad_s) &&
                          w->now->start_phase == CVK_START_RUN;
        there_s = near ? there_s + w->period_s : 0.0;
    }
    return goes && there_s >= 0.2;
}

static void run(work *w, double speed_rad_s, double longest_s)
{
    random_start *o = w->out;
    o->at = "rest";
    bool good = ask(w, CVK_MODE_REST, 0.0) && wait(w, 0.25);
    o->current_a = 0.0;
    o->at = "start";
    good = good && reach(w, speed_rad_s, longest_s);
    o->took_s = w->time_s - 0.25;
    if (good) {
        o->at = "reverse";
        good = reach(w, -speed_rad_s, longest_s);
    }
    if (good) {
        o->at = "stop";
        good = ask(w, CVK_MODE_STOP, 0.0);
        for (double t = 0.0; t < longest_s && good && w->now->bridge_on != 0; t += w->period_s) {
            good = step(w);
        }
        good = good && w->now->bridge_on == 0;
    }
    o->good = good;
}

random_start start_random_motor(uint64_t number, const random_start_options *options)
{
    random_start out = {.bench = random_motor(number), .at = "gains"};
    uint64_t n = number * 104729u + 3u;
    cvk_rig_config *b = &out.bench;
    const double saliency = draw_between(&n, options->least_saliency, options->most_saliency);
    if (options->most_saliency > 0.0) { /* the same flux of the limit's current */
        b->motor.inductance_d_h = b->motor.inductance_q_h / saliency;
    }
    b->inverter.fidelity = options->switched ? CVK_FIDELITY_SWITCHED : CVK_FIDELITY_AVERAGED;
    const bool known = give_gains(&out, &n, options->exact);
    b->tune.observer.kind = (int32_t)options->observer;
    out.winding_degc = options->exact ? 25.0 : draw_between(&n, 0.0, 120.0);
    const double cold_nm =
        1.5 * b->motor.pole_pairs * b->motor.flux_linkage_wb * (double)b->tune.limit.current_a;
    const double hot_nm = cold_nm * (1.0 - b->motor.magnet_per_k * (out.winding_degc - 25.0));
    out.load_share = draw_between(&n, 0.0, options->most_load);
    const double load_nm =
        fmax(0.0, out.load_share * hot_nm - b->shaft.friction_static_nm - b->shaft.cogging_nm);
    b->motor.ambient_degc = out.winding_degc;
    const double way = draw_even(&n) < 0.5 ? -1.0 : 1.0;
    if (!known) {
        return out;
    }
    work w = {.options = options,
              .out = &out,
              .pole_pairs = b->motor.pole_pairs,
              .period_s = (double)cvk_sim_hardware(b).period_s};
    cvk_refusal why = {0};
    const cvk_status opened = cvk_sim_init(&w.sim, b, 100u + number, &why);
    if (opened != CVK_OK) {
        const cvk_rig_field *field = NULL;
        const char *name = cvk_rig_check(b, &field) != CVK_OK ? field->name : why.field;
        snprintf(out.why, sizeof out.why, "%s: %s", cvk_status_text(opened), name);
        cvk_sim_close(&w.sim);
        return out;
    }
    cvk_rig_scenario load = {.count = 1};
    load.item[0] = cvk_rig_event_default(options->blocked ? CVK_LOAD_BLOCKED : CVK_LOAD_BRAKE);
    load.item[0].value[0] = options->blocked ? NAN : load_nm;
    cvk_rig_set_scenario(w.sim.rig, &load);
    const double top = b->supply.bus_v / sqrt(3.0) / b->motor.flux_linkage_wb;
    const double speed = fmax(SPEED_SHARE * top, 1.3 * (double)b->tune.start.speed_rad_s);
    if (options->caught) {
        const double mech = (draw_even(&n) * 1.2 - 0.6) * top / w.pole_pairs;
        cvk_rig_spin(w.sim.rig, mech, mech);
    }
    const double ramp_s =
        2.0 * speed / (double)b->tune.speed.acceleration_rad_s2 +
        2.0 * (double)(b->tune.start.speed_rad_s / b->tune.start.acceleration_rad_s2) +
        4.0 * (double)b->tune.start.align_s;
    run(&w, way * speed, 4.0 * ramp_s + 6.0 + 8.0 * (double)b->tune.start.patience_s);
    cvk_sim_close(&w.sim);
    return out;
}
