/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated rig: motor, shaft, averaged inverter, supply and measuring chain, with the
 * imperfections that make real logs hard. It knows nothing of the controller: duties go in,
 * samples come out. The same config and seed give the same samples.
 *
 * What it does not model yet: switching edges, saturation, iron loss, temperature, rectification
 * of the back-EMF while the bridge is off (fine while line-to-line EMF stays below the bus).
 */
#ifndef CORVAK_RIG_RIG_H
#define CORVAK_RIG_RIG_H

#include "corvak/core/status.h"

#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_RIG_NAME_LENGTH 32

typedef struct cvk_rig_motor {
    double pole_pairs;     /* whole number, 1 .. 50 */
    double resistance_ohm; /* one phase of the star */
    double inductance_d_h, inductance_q_h;
    double flux_linkage_wb;                /* peak, per phase */
    double emf_harmonic_5, emf_harmonic_7; /* flux harmonics as a share of the fundamental */
    double magnet_spread; /* size of the once-per-revolution pattern, share of the flux */
} cvk_rig_motor;

typedef struct cvk_rig_shaft {
    double inertia_kg_m2;
    double friction_coulomb_nm;
    double friction_viscous_nm_s;
    double cogging_nm; /* amplitude, six times per electrical turn */
} cvk_rig_shaft;

typedef struct cvk_rig_inverter {
    double pwm_hz; /* also the control rate */
    double dead_time_s;
    double switch_resistance_ohm;
    double diode_drop_v;
    double soft_current_a; /* below this current the dead time acts only in part */
} cvk_rig_inverter;

typedef struct cvk_rig_supply {
    double bus_v; /* open circuit */
    double resistance_ohm;
} cvk_rig_supply;

/* Tolerances are bounds: gain and offset of each channel are drawn evenly from +- the bound. */
typedef struct cvk_rig_sensing {
    double adc_bits;
    double current_range_a; /* -range .. +range */
    double current_noise_a; /* rms */
    double current_offset_a;
    double current_gain_tolerance;
    double voltage_range_v; /* 0 .. range, bus and terminals */
    double voltage_noise_v;
    double voltage_gain_tolerance;
} cvk_rig_sensing;

typedef struct cvk_rig_rotor_sensor {
    double counts;          /* per turn; 0 for unlimited resolution */
    double noise_mech_rad;  /* rms */
    double offset_mech_rad; /* reading at electrical angle zero */
} cvk_rig_rotor_sensor;

/* What the person tells the controller; not part of the physics. */
typedef struct cvk_rig_drive {
    double current_limit_a;
    double trip_current_a;
    double bandwidth_hz;
    double resistance_ohm, inductance_d_h, inductance_q_h, flux_linkage_wb;
    double speed_gain_a_s, speed_integral_gain_a;
    double speed_rad_s; /* electrical, highest of a spin */
    double plateau_s;   /* length of one plateau of a spin */
} cvk_rig_drive;

typedef struct cvk_rig_config {
    char name[CVK_RIG_NAME_LENGTH];
    cvk_rig_motor motor;
    cvk_rig_shaft shaft;
    cvk_rig_inverter inverter;
    cvk_rig_supply supply;
    cvk_rig_sensing sensing;
    cvk_rig_rotor_sensor rotor_sensor;
    cvk_rig_drive drive;
} cvk_rig_config;

/* One field of the config that a rig file can set. */
typedef struct cvk_rig_field {
    const char *section, *name;
    unsigned offset;  /* of a double in cvk_rig_config */
    double low, high; /* allowed range, both ends included */
    const char *meaning;
} cvk_rig_field;

/* All fields, in file order; the count goes to `count`. */
const cvk_rig_field *cvk_rig_fields(unsigned *count);

/* Every field checked against its range; the refused one goes to `field` (may be null). */
cvk_status cvk_rig_check(const cvk_rig_config *config, const cvk_rig_field **field) CVK_MUST_CHECK;

typedef struct cvk_rig_random {
    uint64_t state;
} cvk_rig_random;

typedef struct cvk_rig_channel {
    double gain, offset; /* reading = gain * truth + offset + noise */
} cvk_rig_channel;

#define CVK_RIG_MAGNET_ORDERS 3

typedef struct cvk_rig_state {
    double flux_alpha_wb, flux_beta_wb; /* winding's flux linkage, stationary frame */
    double speed_mech_rad_s;
    double angle_mech_rad;
} cvk_rig_state;

typedef struct cvk_rig {
    cvk_rig_config config;
    cvk_rig_random random;
    cvk_rig_channel current[3], terminal[3], bus;
    double magnet_phase_rad[CVK_RIG_MAGNET_ORDERS];
    cvk_rig_state state;
    int steps;    /* integration steps in one PWM period */
    double bus_v; /* at the inverter */
    bool bridge_on;
    bool shaft_held;
    double time_s;
} cvk_rig;

/* What the measuring chain reads at one instant. */
typedef struct cvk_rig_sample {
    double current_a[3];
    double terminal_v[3]; /* against the negative bus; meaningful with the bridge off */
    double bus_v;
    double sensor_mech_rad; /* 0 .. 2 pi, mechanical */
} cvk_rig_sample;

/* A rig at rest at a random angle, bridge off; refuses a config that cvk_rig_check() refuses. */
cvk_status cvk_rig_init(cvk_rig *rig, const cvk_rig_config *config, uint64_t seed) CVK_MUST_CHECK;

void cvk_rig_hold_shaft(cvk_rig *rig, bool held);
void cvk_rig_enable_bridge(cvk_rig *rig, bool on);

/* One reading now. Takes the noise from the rig's random sequence. */
cvk_rig_sample cvk_rig_read(cvk_rig *rig);

/* One PWM period with these three duties (0 .. 1). */
void cvk_rig_advance(cvk_rig *rig, const double duty[3]);

/* The truth, for comparison: electrical angle and phase currents without the measuring chain. */
double cvk_rig_electrical_angle(const cvk_rig *rig);
void cvk_rig_true_current(const cvk_rig *rig, double current_a[3]);

/* Resistance that commanded voltages show: winding plus one switch. */
double cvk_rig_visible_resistance(const cvk_rig_config *config);

/* Voltage by which the dead time and the diodes shift a phase that carries ample current. */
double cvk_rig_dead_time_voltage(const cvk_rig_config *config);

#ifdef __cplusplus
}
#endif
#endif
