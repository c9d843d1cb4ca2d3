/* SPDX-License-Identifier: Apache-2.0
 *
 * Time constants, speed range, ripple currents and doubts about a rig.
 *
 * Current ripple: within a PWM period the voltage jumps between switching states while their mean
 * is what the control asked for; the ripple is the integral of the difference over the smallest
 * inductance. Capacitor current: Kolar, Round, "Analytical calculation of the RMS current stress on
 * the DC-link capacitor of voltage-PWM converter systems", IEE Proc. Electr. Power Appl. 153(4),
 * 2006.
 */
#include "corvak/rig/outlook.h"

#include "corvak/core/units.h"

#include "parts.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>

#define ANGLES 60 /* voltage directions tried, over a sixth of a turn */
#define DEPTHS 20 /* modulation depths tried */

typedef struct duties {
    double of[3];
} duties;

/* Min-max centred duties for a vector of `depth` (1: end of the linear range) at `angle`. */
static duties duties_for(double depth, double angle_rad)
{
    duties d;
    double low = INFINITY, high = -INFINITY;
    for (int n = 0; n < 3; n++) {
        d.of[n] = depth / SQRT3 * cos(angle_rad - n * 2.0 * CVK_PI_WIDE / 3.0);
        low = fmin(low, d.of[n]);
        high = fmax(high, d.of[n]);
    }
    for (int n = 0; n < 3; n++) {
        d.of[n] += 0.5 - 0.5 * (high + low);
    }
    return d;
}

/* Voltage of phase a against the star point, in units of the bus, at `time` of a centred period. */
static double phase_a_share(const duties *d, double time)
{
    double on[3];
    for (int n = 0; n < 3; n++) {
        on[n] = fabs(time - 0.5) < 0.5 * d->of[n] ? 1.0 : 0.0;
    }
    return (2.0 * on[0] - on[1] - on[2]) / 3.0;
}

/* Peak-to-peak of the integral of phase a's voltage less its mean, in bus volts times periods. */
static double ripple_of(const duties *d)
{
    enum { STEPS = 200 };
    double mean = (2.0 * d->of[0] - d->of[1] - d->of[2]) / 3.0;
    double sum = 0.0, low = 0.0, high = 0.0;
    for (int n = 0; n < STEPS; n++) {
        sum += (phase_a_share(d, (n + 0.5) / STEPS) - mean) / STEPS;
        low = fmin(low, sum);
        high = fmax(high, sum);
    }
    return high - low;
}

static void find_ripple(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    double least_h = fmin(config->motor.inductance_d_h, config->motor.inductance_q_h);
    double per_unit = config->supply.bus_v / config->inverter.pwm_hz / least_h;
    for (int m = 1; m <= DEPTHS; m++) {
        for (int a = 0; a < ANGLES; a++) {
            duties d = duties_for((double)m / DEPTHS, a * 2.0 * CVK_PI_WIDE / ANGLES);
            double ripple_a = per_unit * ripple_of(&d);
            if (ripple_a > out->ripple_a) {
                out->ripple_a = ripple_a;
                out->ripple_depth = (double)m / DEPTHS;
            }
        }
    }
}

/* Largest over the depth at power factor one, at the allowed current. `modulation` is phase voltage
 * over half the bus. */
static double capacitor_ripple(double current_peak_a)
{
    double largest = 0.0;
    for (int m = 1; m <= DEPTHS; m++) {
        double modulation = 2.0 / SQRT3 * m / DEPTHS;
        double square =
            2.0 * modulation *
            (SQRT3 / (4.0 * CVK_PI_WIDE) + (SQRT3 / CVK_PI_WIDE - 9.0 / 16.0 * modulation));
        largest = fmax(largest, current_peak_a / sqrt(2.0) * sqrt(fmax(square, 0.0)));
    }
    return largest;
}

/* Electrical speed at which flux, R iq and w Lq iq together take the voltage. */
static double speed_at(const cvk_rig_config *config, double voltage_v, double current_q_a)
{
    const cvk_rig_motor *motor = &config->motor;
    double r = cvk_rig_visible_resistance(config), flux = motor->flux_linkage_wb;
    double li = motor->inductance_q_h * current_q_a, ri = r * current_q_a;
    /* (ri + w flux)^2 + (w li)^2 = v^2 */
    double a = flux * flux + li * li, b = ri * flux, c = ri * ri - voltage_v * voltage_v;
    return c >= 0.0 ? 0.0 : (-b + sqrt(b * b - a * c)) / a;
}

static void find_speeds(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    const double bus_v = config->supply.bus_v, p = config->motor.pole_pairs;
    const struct {
        const char *name;
        double share; /* phase voltage over bus */
    } depths[CVK_OUTLOOK_DEPTHS] = {{"90 % of the linear range", 0.9 / SQRT3},
                                    {"end of the linear range", 1.0 / SQRT3},
                                    {"six-step", 2.0 / CVK_PI_WIDE}};
    for (int n = 0; n < CVK_OUTLOOK_DEPTHS; n++) {
        double voltage_v = depths[n].share * bus_v;
        out->depth[n].name = depths[n].name;
        out->depth[n].phase_voltage_v = voltage_v;
        out->depth[n].no_load_mech_rad_s = speed_at(config, voltage_v, 0.0) / p;
        out->depth[n].loaded_mech_rad_s =
            speed_at(config, voltage_v, config->tune.limit.current_a) / p;
    }
    out->off_mech_rad_s =
        (double)config->tune.protect.bus_max_v / (SQRT3 * config->motor.flux_linkage_wb * p);
}

#if defined(__GNUC__)
__attribute__((format(printf, 2, 3)))
#endif
static void
doubt(cvk_rig_outlook *out, const char *format, ...)
{
    if (out->doubts < CVK_OUTLOOK_DOUBTS) {
        va_list arguments;
        va_start(arguments, format);
        vsnprintf(out->doubt[out->doubts++], sizeof out->doubt[0], format, arguments);
        va_end(arguments);
    }
}

/* Slope of the flux map along an axis. */
static double loaded_inductance(const cvk_rig_config *config, double d_a, double q_a)
{
    double d_wb[2], q_wb[2], step_a = 1e-3 * config->tune.limit.current_a;
    double step_d = q_a == 0.0 ? step_a : 0.0, step_q = step_a - step_d;
    cvk_rig_flux_at(config, d_a - step_d, q_a - step_q, &d_wb[0], &q_wb[0]);
    cvk_rig_flux_at(config, d_a + step_d, q_a + step_q, &d_wb[1], &q_wb[1]);
    return (step_d > 0.0 ? d_wb[1] - d_wb[0] : q_wb[1] - q_wb[0]) / (2.0 * step_a);
}

static double shunt_duty_limit(const cvk_rig_config *config)
{
    const int sensing = config->sensing.current_sensing;
    double window_s = config->sensing.settling_s + config->inverter.dead_time_s;
    double windows = sensing == CVK_SENSING_INLINE         ? 0.0
                     : sensing == CVK_SENSING_SINGLE_SHUNT ? 1.0
                                                           : 2.0;
    return fmax(0.0, 1.0 - windows * window_s * config->inverter.pwm_hz);
}

static void doubt_currents(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    const cvk_settings *tune = &config->tune;
    double range_a = config->sensing.current_range_a;
    double short_a = config->supply.bus_v / SQRT3 / cvk_rig_visible_resistance(config);
    if (tune->protect.trip_current_a > range_a) {
        doubt(out,
              "protect.trip_current_a %g is beyond sensing.current_range_a %g: it can never be "
              "seen; lower it or widen the range",
              tune->protect.trip_current_a, range_a);
    }
    if (tune->limit.current_a + 0.5 * out->ripple_a > tune->protect.trip_current_a) {
        doubt(out,
              "limit.current_a %g plus half the ripple (%.3g A) reaches protect.trip_current_a %g: "
              "it will trip in normal use",
              tune->limit.current_a, 0.5 * out->ripple_a, tune->protect.trip_current_a);
    }
    if (tune->limit.current_a > short_a) {
        doubt(out,
              "limit.current_a %g is more than the bus can drive through the winding at "
              "standstill (%.3g A)",
              tune->limit.current_a, short_a);
    }
    if (tune->limit.current_a < 50.0 * out->current_step_a) {
        doubt(out,
              "limit.current_a %g is only %.0f counts of the converter: lower "
              "sensing.current_range_a %g",
              tune->limit.current_a, tune->limit.current_a / out->current_step_a, range_a);
    }
    if (out->ripple_a > tune->limit.current_a) {
        doubt(out,
              "current ripple (%.3g A) is larger than limit.current_a %g: raise "
              "inverter.pwm_hz",
              out->ripple_a, tune->limit.current_a);
    }
}

static void doubt_sensing(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    const cvk_rig_gate_driver *gate = &config->gate_driver;
    if (config->sensing.amplifier_range_a > 0.0 &&
        config->sensing.amplifier_range_a < config->tune.protect.trip_current_a) {
        doubt(out,
              "sensing.amplifier_range_a %g saturates below protect.trip_current_a %g: the trip "
              "cannot be seen; lower the trip or the amplifier's gain",
              config->sensing.amplifier_range_a, config->tune.protect.trip_current_a);
    }
    if (gate->overcurrent_a > 0.0 && gate->overcurrent_a < config->tune.limit.current_a) {
        doubt(out,
              "gate_driver.overcurrent_a %g cuts in below limit.current_a %g: raise it or "
              "lower the limit",
              gate->overcurrent_a, config->tune.limit.current_a);
    }
    if (out->lag_error_a > 0.05 * config->tune.limit.current_a) {
        doubt(out,
              "sensing.amplifier_lag_s %g makes a current reading wrong by %.3g A at "
              "program.speed_rad_s: set the parameter sensing.delay_s to it",
              config->sensing.amplifier_lag_s, out->lag_error_a);
    }
    if (out->shunt_duty_limit < 0.85) {
        doubt(out,
              "a shunt is blind above a duty of %.2f: shorten sensing.settling_s or "
              "inverter.dead_time_s, or lower inverter.pwm_hz",
              out->shunt_duty_limit);
    }
    if (config->rotor_sensor.hall_dead != 0 && config->imperfections.hall_dead) {
        doubt(out, "rotor_sensor.hall_dead: a hall does not move; the hall angle has gaps");
    }
}

static void doubt_timing(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    const cvk_settings *tune = &config->tune;
    double top_rad_s = out->depth[1].no_load_mech_rad_s * config->motor.pole_pairs;
    double drop_v = cvk_rig_visible_resistance(config) * tune->limit.current_a;
    if (tune->program.speed_rad_s > top_rad_s) {
        doubt(out,
              "program.speed_rad_s %g is beyond the no-load speed %.4g: a spin will not reach it",
              tune->program.speed_rad_s, top_rad_s);
    }
    if (out->radians_per_sample > 0.6) {
        doubt(out,
              "%.2f rad of electrical angle per sample at program.speed_rad_s: raise "
              "inverter.pwm_hz (0.6 is a lot)",
              out->radians_per_sample);
    }
    if (tune->current.bandwidth_hz > config->inverter.pwm_hz / 16.0) {
        doubt(out, "current.bandwidth_hz %g is refused by the controller: at most pwm_hz / 16 = %g",
              tune->current.bandwidth_hz, config->inverter.pwm_hz / 16.0);
    }
    if (out->dead_time_v > 0.5 * drop_v) {
        doubt(out,
              "dead time takes %.2g V, the winding at the allowed current only %.2g V: "
              "resistance will be hard to see",
              out->dead_time_v, drop_v);
    }
    if (config->supply.bus_v > config->sensing.voltage_range_v) {
        doubt(out, "supply.bus_v %g is beyond sensing.voltage_range_v %g", config->supply.bus_v,
              config->sensing.voltage_range_v);
    }
}

/* A belief that is off by more than a factor of two makes a sluggish or an unstable loop. */
static void doubt_beliefs(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    const struct {
        const char *name;
        double believed, truth;
    } beliefs[] = {
        {"inductance_d_h", config->tune.motor.inductance_d_h, config->motor.inductance_d_h},
        {"inductance_q_h", config->tune.motor.inductance_q_h, config->motor.inductance_q_h},
    };
    for (size_t n = 0; n < sizeof beliefs / sizeof beliefs[0]; n++) {
        double ratio = beliefs[n].believed / beliefs[n].truth;
        if (ratio > 2.0 || ratio < 0.5) {
            doubt(out,
                  "the controller believes %s to be %g, the motor has %g: estimate it and put "
                  "the card's value into the tune file",
                  beliefs[n].name, beliefs[n].believed, beliefs[n].truth);
        }
    }
}

void cvk_rig_look_ahead(const cvk_rig_config *config, cvk_rig_outlook *out)
{
    const cvk_rig_motor *motor = &config->motor;
    double r = cvk_rig_visible_resistance(config), p = motor->pole_pairs;
    double torque_per_a = 1.5 * p * motor->flux_linkage_wb;
    *out = (cvk_rig_outlook){
        .time_constant_d_s = motor->inductance_d_h / r,
        .time_constant_q_s = motor->inductance_q_h / r,
        .mechanical_time_constant_s =
            config->shaft.inertia_kg_m2 * r / (1.5 * pow(p * motor->flux_linkage_wb, 2.0)),
        .torque_limit_nm = torque_per_a * config->tune.limit.current_a,
        .capacitor_ripple_a = capacitor_ripple(config->tune.limit.current_a),
        .radians_per_sample = config->tune.program.speed_rad_s / config->inverter.pwm_hz,
        .dead_time_v = cvk_rig_dead_time_voltage(config),
        .current_step_a =
            2.0 * config->sensing.current_range_a / (exp2(floor(config->sensing.adc_bits)) - 1.0),
    };
    double limit_a = config->tune.limit.current_a;
    out->loaded_inductance_d_h = loaded_inductance(config, limit_a, 0.0);
    out->loaded_inductance_q_h = loaded_inductance(config, 0.0, limit_a);
    out->thermal_time_constant_s = motor->winding_k_w * motor->winding_j_k;
    out->shunt_duty_limit = shunt_duty_limit(config);
    out->lag_error_a = config->sensing.amplifier_lag_s * config->tune.program.speed_rad_s *
                       motor->flux_linkage_wb / motor->inductance_q_h;
    find_ripple(config, out);
    find_speeds(config, out);
    doubt_currents(config, out);
    doubt_sensing(config, out);
    doubt_timing(config, out);
    doubt_beliefs(config, out);
}
