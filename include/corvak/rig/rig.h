/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated rig: motor, shaft, inverter, supply and measuring chain, with the imperfections
 * that make real logs hard. It knows nothing of the controller: duties go in, samples come out. The
 * same config, scenario and seed give the same samples.
 */
#ifndef CORVAK_RIG_RIG_H
#define CORVAK_RIG_RIG_H

#include "corvak/rig/config.h"
#include "corvak/rig/scenario.h"

#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

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

typedef struct cvk_rig_state {
    double flux_alpha_wb, flux_beta_wb; /* winding's flux linkage, motor phases, stationary frame */
    double speed_mech_rad_s, angle_mech_rad;
    double load_speed_mech_rad_s, load_angle_mech_rad; /* second mass, when there is one */
    double bus_v;                                      /* at the inverter */
    double supply_a;                                   /* from the supply into the bus */
    double winding_degc;
    bool stuck; /* the shaft rests, held by friction */
} cvk_rig_state;

/* Where energy went since the meter was switched on, in J. */
typedef struct cvk_rig_meter {
    bool on;
    double source_j;   /* from the supply's open-circuit voltage */
    double supply_j;   /* lost in the supply's resistance */
    double inverter_j; /* lost in switches and diodes */
    double copper_j, iron_j;
    double friction_j;     /* friction of all kinds, hand brake included */
    double load_j;         /* given to the loads */
    double capacitor_a2_s; /* integral of the squared capacitor current (switched inverter only) */
    double time_s;
} cvk_rig_meter;

/* Registers of the gate driver, 16 bits each; reachable through the port only. */
enum {
    CVK_GATE_IDENTITY = 0,    /* reads CVK_GATE_IDENTITY_VALUE */
    CVK_GATE_EVENTS = 1,      /* CVK_GATE_EVENT_ bits; writing a bit as 1 clears it */
    CVK_GATE_OVERCURRENT = 2, /* bits 0..9: limit, share of full scale; bit 15: 1 latches */
    CVK_GATE_TEMPERATURE = 3, /* winding, degC, read only */
    CVK_GATE_REGISTERS = 4
};
#define CVK_GATE_IDENTITY_VALUE 0xC0A5u
#define CVK_GATE_EVENT_OVERCURRENT 0x0001u
#define CVK_GATE_EVENT_LATCHED 0x0002u /* the bridge stays off until this is cleared */
#define CVK_GATE_EVENT_HOT 0x0004u
#define CVK_GATE_EVENT_UNDERVOLTAGE 0x0008u
#define CVK_GATE_LATCH 0x8000u
#define CVK_GATE_LIMIT_MASK 0x03FFu

/* Storage: two pages like flash memory. An erase sets a page to 0xFF; programming clears bits. */
#define CVK_RIG_PAGE_BYTES 1024u
#define CVK_RIG_PAGES 2u
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

/* What the measuring chain reads at one instant. */
typedef struct cvk_rig_sample {
    double current_a[3];   /* by inverter leg; NaN where nothing is measured */
    bool current_valid[3]; /* the window was long enough */
    double terminal_v[3];  /* against the negative bus; NaN while the bridge is on */
    double bus_v;
    double winding_degc; /* read every millisecond, like the pedal */
    /* rotor sensors: NaN or 0 where not fitted */
    double absolute_mech_rad; /* 0 .. 2 pi */
    double encoder_counts;    /* since the start */
    bool index_passed;        /* the index mark went by since the sample before */
    double sin_v, cos_v;
    int hall; /* 0 .. 7: hall a is bit 0 */
    double tachometer_v;
    /* set-points: NaN when nothing (new) arrived */
    double pulse_s, pedal_v, digital;
} cvk_rig_sample;

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
    double dead_duty, dead_v;                     /* duty and voltage that the dead time takes */
    cvk_rig_vector magnet[CVK_RIG_MAGNET_ORDERS]; /* pattern of unequal magnets */
    int supply_steps;
    double adc_current_a, adc_voltage_v; /* one count; 0: no quantisation */
    double period_s;                     /* of control */
    int steps;                           /* of integration in one control period */
    int leg_phase[3];                    /* motor phase on each inverter leg */
} cvk_rig_derived;

typedef struct cvk_rig {
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
    double duty[3];    /* by leg, of the control period that ended last */
    double short_a;    /* mean current between two shorted motor wires */
    double shunt_a[3]; /* single shunt: what its two samples showed, by leg */
    bool second_half;  /* double update: the coming half period begins at the peak */
    bool bridge_on;
    bool shaft_held;
    double set_point;
    double time_s;
    /* called after every piece of a switched period, for scope logs; or null */
    void (*scope)(void *context, const struct cvk_rig *rig, double time_s, const double node_v[3]);
    void *scope_context;
} cvk_rig;

/* A rig at rest at a random angle, bridge off. Refuses a config that cvk_rig_check() refuses or
 * that contradicts itself. */
cvk_status cvk_rig_init(cvk_rig *rig, const cvk_rig_config *config, uint64_t seed) CVK_MUST_CHECK;

/* What is to happen from now on; copied. */
void cvk_rig_set_scenario(cvk_rig *rig, const cvk_rig_scenario *scenario);

/* Turns the shaft to an angle, without current. */
void cvk_rig_place(cvk_rig *rig, double angle_mech_rad);
void cvk_rig_hold_shaft(cvk_rig *rig, bool held);
void cvk_rig_enable_bridge(cvk_rig *rig, bool on);

/* One reading now. Takes the noise from the rig's random sequence. */
cvk_rig_sample cvk_rig_read(cvk_rig *rig);

/* One control period (half a PWM period with double update) with these duties (0 .. 1, by leg). */
void cvk_rig_advance(cvk_rig *rig, const double duty[3]);

/* The gate driver's registers. False when there is no such address. */
bool cvk_rig_gate_read(cvk_rig *rig, unsigned address, uint16_t *value) CVK_MUST_CHECK;
bool cvk_rig_gate_write(cvk_rig *rig, unsigned address, uint16_t value) CVK_MUST_CHECK;

/* Storage. False outside the pages and after a power failure. */
bool cvk_rig_storage_read(const cvk_rig *rig, size_t at, void *bytes, size_t count) CVK_MUST_CHECK;
bool cvk_rig_storage_program(cvk_rig *rig, size_t at, const void *bytes,
                             size_t count) CVK_MUST_CHECK;
bool cvk_rig_storage_erase(cvk_rig *rig, unsigned page) CVK_MUST_CHECK;

/* The truth, for comparison. Angles: electrical, of the motor's own phases. Currents: by inverter
 * leg, without the measuring chain. */
double cvk_rig_electrical_angle(const cvk_rig *rig);
void cvk_rig_true_current(const cvk_rig *rig, double current_a[3]);
/* Incremental inductances (d, q, cross) at the present state, in H. */
void cvk_rig_true_inductance(const cvk_rig *rig, double *d_h, double *q_h, double *cross_h);
/* Flux linkage of motor phases in the rotor frame at currents d, q; magnets at 25 degC. */
void cvk_rig_flux_at(const cvk_rig_config *config, double d_a, double q_a, double *d_wb,
                     double *q_wb);
/* Energy stored in field, masses, coupling, cogging, capacitor and cable, in J. */
double cvk_rig_stored_j(const cvk_rig *rig);
/* What a calibration of the wiring would find: the direction in which the sensor counts as the
 * controller sees the motor turn, and the electrical angle at reading zero. */
void cvk_rig_calibration(const cvk_rig *rig, double *direction, double *offset_e_rad);

#ifdef __cplusplus
}
#endif
#endif
