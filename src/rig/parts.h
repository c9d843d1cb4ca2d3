/* SPDX-License-Identifier: Apache-2.0
 *
 * What the files of the rig share. One control period runs through them in this order:
 *   rig.c          scenario, temperature, which inverter, readings
 *   inverter_*.c   voltages of a period: averaged, switched (edge by edge), or bridge off
 *   plant.c        one step of winding and shaft under a voltage (Runge-Kutta, Simpson)
 *   motor.c        magnet flux at an angle, current for a flux linkage, saturation
 *   supply.c       bus capacitor, cable, battery or bench supply
 *   sensing.c, sensors.c, gate_driver.c   what is read, and the gate driver's registers
 */
#ifndef CORVAK_RIG_PARTS_H
#define CORVAK_RIG_PARTS_H

#include "corvak/rig/rig.h"

#include <complex.h>
#include <math.h>

/* ---- what is inside a rig ------------------------------------------------------------------- */

#define CVK_RIG_MAGNET_ORDERS 3
#define CVK_RIG_NORMAL_LAYERS 128

typedef struct cvk_rig_random {
    uint64_t state;
    double edge[CVK_RIG_NORMAL_LAYERS + 1], ratio[CVK_RIG_NORMAL_LAYERS];
} cvk_rig_random;

typedef struct cvk_rig_channel {
    double gain, offset; /* reading = gain * truth + offset + noise */
    double drift_per_s;
    double stuck; /* NaN, or the reading that a stuck converter repeats */
    double last;  /* the reading before */
} cvk_rig_channel;

/* A vector of the stationary plane; used as a C complex number inside the rig. */
typedef struct cvk_rig_vector {
    double alpha, beta;
} cvk_rig_vector;

typedef struct cvk_rig_storage {
    uint8_t byte[CVK_RIG_PAGES * CVK_RIG_PAGE_BYTES];
    long bytes_left; /* until power fails; below 0: it does not */
    bool dead;       /* power failed: nothing is stored any more */
} cvk_rig_storage;

/* One leg of the switched inverter. */
typedef struct cvk_rig_leg {
    bool high; /* what the PWM asks for */
    bool dead; /* both switches off, since the PWM changed its mind */
    double dead_left_s;
    double node_v; /* of the leg's output while dead */
} cvk_rig_leg;

typedef struct cvk_rig_sensor_state {
    double sin_offset_v, cos_offset_v, gain_mismatch, quadrature_rad;
    double hall_place_rad[3], hall_edge_s[3];
    int hall[3];
    double encoder_start, encoder_edge, encoder_counts, encoder_turn;
    double pulse_due_s, digital_due_s, slow_due_s;
    cvk_rig_sample last; /* for a sensor that is stuck */
} cvk_rig_sensor_state;

typedef struct cvk_rig_rotor {
    double angle_mech_rad;
    cvk_rig_vector mech, electrical;  /* unit vectors */
    cvk_rig_vector flux_wb, slope_wb; /* magnet flux through the windings, and its change per rad */
    double cogging_nm;
} cvk_rig_rotor;

/* What the scenario does in the present control period. */
typedef struct cvk_rig_acting {
    bool any_load;
    bool blocked, driven;
    double driven_mech_rad_s;
    double constant_nm, brake_nm;
    double fan_nm_s2; /* torque per squared speed */
    double unbalance_nm, unbalance_angle_mech_rad;
    int open_phase;           /* motor phase, or -1 */
    int short_from, short_to; /* motor phases, or -1 */
    bool sensor_stuck, sensor_unplugged, set_point_lost;
    double source_v; /* of the supply, brown-out counted */
} cvk_rig_acting;

/* Numbers that follow from the config, kept for speed. */
typedef struct cvk_rig_derived {
    double inv_ld, inv_lq;                  /* 1/H at zero current */
    double scale_d, scale_q, bias, cross;   /* saturation: 1/Wb, 1/Wb, and shapes */
    double resistance_ohm, flux_linkage_wb; /* at the present temperature, switch included */
    double inv_iron;                        /* 1 / iron loss resistance; 0: none */
    double weaken;                          /* 1 / (1 + R / iron loss resistance) */
    double circulating_nm_s;                /* drag of a delta winding's circulating current */
    double inv_inertia, inv_load_inertia;
    double crossover_a; /* at this current the node just gets across in the dead time */
    double half_inv_crossover;
    double per_output_farad;
    /* switched: a current that changes much within a dead time, or hardly moves the node; and one
     * that may turn round in it */
    double fine_below_a, turns_below_a;
    double dead_duty, dead_v;                     /* duty and voltage that the dead time takes */
    cvk_rig_vector magnet[CVK_RIG_MAGNET_ORDERS]; /* pattern of unequal magnets */
    int supply_steps;
    double adc_current_a, adc_voltage_v; /* one count; 0: no quantisation */
    double period_s;                     /* of control */
    int steps;                           /* of integration in one control period */
    int leg_phase[3];                    /* motor phase on each inverter leg */
} cvk_rig_derived;

struct cvk_rig {
    cvk_rig_config config; /* with the switched-off imperfections gone */
    cvk_rig_scenario scenario;
    cvk_rig_acting acting;
    cvk_rig_derived derived;
    cvk_rig_random random;
    cvk_rig_channel current[3], terminal[3], bus;
    double magnet_phase_rad[CVK_RIG_MAGNET_ORDERS];
    cvk_rig_state state;
    cvk_rig_rotor rotor;          /* at the present angle */
    cvk_rig_vector own_wb, now_a; /* the currents' own flux (rotor frame) and the current now */
    cvk_rig_sensor_state sensors;
    cvk_rig_storage storage;
    uint16_t gate_register[CVK_GATE_REGISTERS];
    cvk_rig_meter meter;
    cvk_rig_leg leg[3];
    double duty[3];  /* by leg, of the control period that ended last */
    double shift[3]; /* by leg: by which share of the PWM period its pulse comes later */
    double short_a;  /* mean current between two shorted motor wires */
    double gathered_as, gathered_s; /* drawn from the bus since the supply's last step; that long */
    double late_rise_s[3], late_fall_s[3]; /* by leg, averaged: as the period before had them */
    double shunt_a[3];                     /* single shunt: what its two samples showed, by leg */
    bool second_half; /* double update: the coming half period begins at the peak */
    bool bridge_on;
    bool shaft_held;
    double set_point;
    double time_s;
    /* called after every piece of a switched period, for scope logs; or null */
    void (*scope)(void *context, cvk_rig *rig, double time_s, const double node_v[3]);
    void *scope_context;
    cvk_rig_random scope_random; /* a sequence of its own: a scope does not change the run */
};

/* The memory of a rig, drawn by the seed: what cvk_rig_open() does with its own. */
cvk_status cvk_rig_init(cvk_rig *rig, const cvk_rig_config *config, uint64_t seed) CVK_MUST_CHECK;

#define SQRT3 1.73205080756887729353

typedef double complex cvk_vec; /* a vector of the stationary alpha-beta plane, motor phases */

static inline cvk_vec cvk_vec_of(cvk_rig_vector v)
{
    return v.alpha + I * v.beta;
}

static inline cvk_rig_vector cvk_vector_from(cvk_vec v)
{
    return (cvk_rig_vector){creal(v), cimag(v)};
}

static inline double cvk_dot(cvk_vec a, cvk_vec b)
{
    return creal(a) * creal(b) + cimag(a) * cimag(b);
}

static inline void cvk_to_phases(cvk_vec v, double phase[3])
{
    double along = -0.5 * creal(v), across = 0.5 * SQRT3 * cimag(v);
    phase[0] = creal(v);
    phase[1] = along + across;
    phase[2] = along - across;
}

static inline cvk_vec cvk_from_phases(const double phase[3])
{
    return (2.0 * phase[0] - phase[1] - phase[2]) * (1.0 / 3.0) +
           I * ((phase[1] - phase[2]) * (1.0 / SQRT3));
}

/* fmin and fmax are calls into the C library, for the sake of NaN. */
static inline double cvk_smaller(double a, double b)
{
    return a < b ? a : b;
}

static inline double cvk_larger(double a, double b)
{
    return a > b ? a : b;
}

static inline double cvk_clamp(double x, double low, double high)
{
    return x < low ? low : (x > high ? high : x);
}

/* The largest size of three currents. */
static inline double cvk_largest(const double i[3])
{
    return cvk_larger(fabs(i[0]), cvk_larger(fabs(i[1]), fabs(i[2])));
}

/* ---- motor.c ------------------------------------------------------------------------------- */

/* The rotor at a mechanical angle; and turned on by some angle, which is quicker when it is small:
 * then `half` is the turn by half of it, electrical. A nudge is a
 * correction below a milliradian, to second order for the fundamental. */
cvk_rig_rotor cvk_rotor_at(const cvk_rig *rig, double angle_mech_rad);
cvk_rig_rotor cvk_rotor_turned(const cvk_rig *rig, const cvk_rig_rotor *from, double by_mech_rad,
                               cvk_vec *half);

void cvk_rotor_nudge(const cvk_rig *rig, cvk_rig_rotor *rotor, double by_mech_rad);

/* Saturation scales, iron loss and the like from the config. */
void cvk_motor_derive(cvk_rig *rig);

/* Resistance and flux linkage at the present temperature. */
void cvk_motor_warm(cvk_rig *rig, double copper_w, double dt_s);

/* The flux linkage that belongs to a current (motor phases), found by Newton's method. */
cvk_vec cvk_flux_of(const cvk_rig_derived *d, cvk_vec current_a, const cvk_rig_rotor *rotor);

/* Energy in the field for a flux of the currents' own, rotor frame. */
double cvk_field_j(const cvk_rig_derived *d, cvk_vec own_wb);

/* Current in the rotor frame for the currents' own flux x there: the gradient of the field energy
 *     W = xd^2/2Ld (1 + b u + u^2/2) + xq^2/2Lq (1 + w^2/2 + c (2u + u^2)),  u = xd sd, w = xq sq,
 * so that coupling is reciprocal and no motion makes energy (docs/theory.md). */
static inline cvk_vec cvk_current_dq(const cvk_rig_derived *d, cvk_vec own_wb)
{
    double xd = creal(own_wb), xq = cimag(own_wb), u = xd * d->scale_d, w = xq * d->scale_q;
    double id = xd * d->inv_ld * (1.0 + u * (1.5 * d->bias + u));
    double iq = xq * d->inv_lq * (1.0 + w * w + d->cross * u * (2.0 + u));
    id += d->cross * d->inv_lq * d->scale_d * (1.0 + u) * xq * xq;
    return id + I * iq;
}

static inline cvk_vec cvk_own_flux(cvk_vec flux_wb, const cvk_rig_rotor *rotor)
{
    return (flux_wb - cvk_vec_of(rotor->flux_wb)) * conj(cvk_vec_of(rotor->electrical));
}

/* The magnetising current, motor phases. */
static inline cvk_vec cvk_current_of(const cvk_rig_derived *d, cvk_vec flux_wb,
                                     const cvk_rig_rotor *rotor)
{
    return cvk_current_dq(d, cvk_own_flux(flux_wb, rotor)) * cvk_vec_of(rotor->electrical);
}

static inline cvk_vec cvk_flux_now(const cvk_rig *rig)
{
    return rig->state.flux_alpha_wb + I * rig->state.flux_beta_wb;
}

/* The current that belongs to the present flux and angle is kept beside them. */
static inline cvk_vec cvk_current_now(const cvk_rig *rig)
{
    return cvk_vec_of(rig->now_a);
}

static inline void cvk_set_flux(cvk_rig *rig, cvk_vec flux_wb)
{
    rig->state.flux_alpha_wb = creal(flux_wb);
    rig->state.flux_beta_wb = cimag(flux_wb);
    cvk_vec own = cvk_own_flux(flux_wb, &rig->rotor);
    rig->own_wb = cvk_vector_from(own);
    rig->now_a =
        cvk_vector_from(cvk_current_dq(&rig->derived, own) * cvk_vec_of(rig->rotor.electrical));
}

/* ---- plant.c ------------------------------------------------------------------------------- */

/* The voltage at the motor's terminals: bus times `share` and `fixed_v`, less what the dead time
 * takes from each phase by its current (averaged inverter only), less the switches' resistance. */
typedef struct cvk_terminals {
    cvk_vec share;
    cvk_vec fixed_v;
    double dead[3]; /* share of the dead time that acts, by motor phase; 0 in a switched inverter */
    double rise_a[3], fall_a[3]; /* less current where the leg rises, and more where it falls */
} cvk_terminals;

/* Moves winding and shaft on by dt_s. Returns the charge drawn from the bus, in A s. */
double cvk_motion_step(cvk_rig *rig, const cvk_terminals *at, double dt_s);

/* Moves the winding alone on, while the rotor turns at the given speed: a piece of a switched
 * period. Adds the motor's torque times time. The shaft follows once a period. */
double cvk_motion_piece(cvk_rig *rig, const cvk_terminals *at, double dt_s, double speed_mech_rad_s,
                        double *impulse_nms);

/* The shaft's part of a step: where it will go by the torque at the start, and where it went by the
 * torques at the middle and the end. `h` is the length of the step, in s. */
typedef struct cvk_shaft_point {
    double angle, speed, load_angle, load_speed;
} cvk_shaft_point;

typedef struct cvk_shaft_rates {
    double rotor, load;    /* accelerations */
    double drag_w, load_w; /* powers: lost to friction, given to loads */
} cvk_shaft_rates;

typedef struct cvk_shaft_step {
    cvk_shaft_point start, middle, end;
    cvk_shaft_rates first;
    double friction_nm;
    bool rests;   /* the rotor does not move during this step */
    bool imposed; /* it turns at a given speed */
} cvk_shaft_step;

cvk_shaft_step cvk_shaft_predict(cvk_rig *rig, double motor_nm, double h);
void cvk_shaft_finish(cvk_rig *rig, const cvk_shaft_step *s, double middle_nm, double end_nm,
                      double h);

/* Moves the shaft alone on under a torque of the motor, and the rotor with it; for the bridge off.
 * The flux is left to the caller. */
void cvk_shaft_coast(cvk_rig *rig, double motor_nm, double dt_s);

/* Share of the dead time's voltage that a phase loses at this current: while the current is too
 * small to carry the node across within the dead time, it loses less (docs/theory.md). */
double cvk_dead_share(const cvk_rig_derived *d, double current_a);

/* Resistance of a conducting diode beyond that of the switch, which the winding counts always. */
double cvk_diode_excess(const cvk_rig *rig);

/* Torque of the motor (cogging included) for a current of motor phases. */
double cvk_torque_now(const cvk_rig *rig);
double cvk_motor_torque(const cvk_rig *rig, cvk_vec own_dq_wb, cvk_vec current_a,
                        const cvk_rig_rotor *rotor);

/* ---- inverter_averaged.c, inverter_switched.c, inverter_off.c ------------------------------- */
void cvk_inverter_derive(cvk_rig *rig);
/* After the motor's. */
void cvk_switched_derive(cvk_rig *rig);
/* Integration steps that one control period needs; a config that needs more than the most is
 * refused. */
#define CVK_RIG_MOST_STEPS 64
double cvk_rig_wanted_steps(const cvk_rig_config *config);
/* Duties that can be sent: within 0 .. 1, pulses below the minimum left out. */
void cvk_sendable(const cvk_rig *rig, const double duty[3], double sent[3]);
void cvk_inverter_averaged(cvk_rig *rig, const double duty[3]);
/* The over-current comparator may end the period early; its rest then runs with the bridge off. */
void cvk_inverter_switched(cvk_rig *rig, const double duty[3]);
void cvk_inverter_off(cvk_rig *rig, double dt_s);
/* An open phase carries no current: called after each step. */
void cvk_open_phase(cvk_rig *rig);
/* Sets phases' currents to zero, keeping the sum of all three zero. */
void cvk_zero_phases(cvk_rig *rig, const bool zero[3]);
/* Which of three goes where, by the name of an order: "bca" is 1, 2, 0. */
const int *cvk_order(cvk_rig_phases phases);
/* The legs' voltages, in share of the bus and fixed, as the motor's terminals see them: wiring and
 * a short between two motor wires counted. */
static inline cvk_vec cvk_from_legs(const cvk_rig *rig, const double leg[3])
{
    const cvk_rig_acting *a = &rig->acting;
    double phase[3];
    for (int n = 0; n < 3; n++) {
        phase[rig->derived.leg_phase[n]] = leg[n];
    }
    if (a->short_from >= 0) {
        phase[a->short_from] = phase[a->short_to] =
            0.5 * (phase[a->short_from] + phase[a->short_to]);
    }
    return cvk_from_phases(phase);
}

/* A short between two wires: finds its mean current for legs at these voltages (share of the bus by
 * leg, node voltages by leg) and returns what it draws from the bus, in A. */
double cvk_short_draw(cvk_rig *rig, const double share[3], const double node_v[3]);
/* Currents by inverter leg, short counted. */
void cvk_leg_currents(const cvk_rig *rig, double leg_a[3]);

/* A single shunt sees one leg in each of the two active vectors of the period's first half. */
typedef struct cvk_shunt_plan {
    int leg[2];     /* which leg it sees */
    double at_s[2]; /* when it samples, from the period's start */
    double window_s[2];
} cvk_shunt_plan;
/* When a leg rises, from the PWM period's start. */
double cvk_rise_s(const cvk_rig *rig, int leg, double duty);
cvk_shunt_plan cvk_plan_shunt(const cvk_rig *rig, const double duty[3]);

/* ---- supply.c ------------------------------------------------------------------------------ */
void cvk_supply_derive(cvk_rig *rig);
void cvk_supply_step(cvk_rig *rig, double charge_as, double dt_s);
/* The same for brief pieces: several make one step; and what is left of them. */
void cvk_supply_gather(cvk_rig *rig, double charge_as, double dt_s);
void cvk_supply_settle(cvk_rig *rig);

/* ---- sensing.c, sensors.c, gate_driver.c, scenario.c --------------------------------------- */
void cvk_sensing_draw(cvk_rig *rig);
void cvk_sensing_read(cvk_rig *rig, cvk_rig_sample *sample);
void cvk_sensors_draw(cvk_rig *rig);
void cvk_sensors_read(cvk_rig *rig, cvk_rig_sample *sample);
void cvk_inputs_read(cvk_rig *rig, cvk_rig_sample *sample);
void cvk_gate_reset(cvk_rig *rig);
/* Limit of the over-current comparator; 0 without one. */
double cvk_gate_limit_a(const cvk_rig *rig);
/* Over-current, over-temperature and under-voltage as the gate driver sees them at the start of a
 * control period; true when the bridge must stay off during it. */
bool cvk_gate_blocks(cvk_rig *rig);
void cvk_rig_watch_events(cvk_rig *rig);
double cvk_rig_share_of(const cvk_rig *rig, const cvk_rig_event *event);
/* Fills in rig->acting for the present control period. */
void cvk_rig_act(cvk_rig *rig);

#endif
