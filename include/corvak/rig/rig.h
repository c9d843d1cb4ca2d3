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

/* A rig: what is inside is private (src/rig/parts.h). Not for several threads at once. */
typedef struct cvk_rig cvk_rig;

/* A rig at rest at a random angle, bridge off. CVK_NO_MEMORY; CVK_OUT_OF_RANGE for a config that
 * cvk_rig_check() refuses or that contradicts itself. `*rig` is null then. */
cvk_status cvk_rig_open(cvk_rig **rig, const cvk_rig_config *config, uint64_t seed) CVK_MUST_CHECK;

/* Frees it; it may be null. */
void cvk_rig_close(cvk_rig *rig);

/* What is to happen from now on; copied. */
void cvk_rig_set_scenario(cvk_rig *rig, const cvk_rig_scenario *scenario);

/* Turns the shaft to an angle, without current. */
void cvk_rig_place(cvk_rig *rig, double angle_mech_rad);
/* Gives it a speed, and its second mass another, as if pushed. */
void cvk_rig_spin(cvk_rig *rig, double speed_mech_rad_s, double load_speed_mech_rad_s);
void cvk_rig_hold_shaft(cvk_rig *rig, bool held);
void cvk_rig_enable_bridge(cvk_rig *rig, bool on);

/* One reading now. Takes the noise from the rig's random sequence. */
cvk_rig_sample cvk_rig_read(cvk_rig *rig);

/* One control period (half a PWM period with double update) with these duties (0 .. 1, by leg). */
void cvk_rig_advance(cvk_rig *rig, const double duty[3]);

/* Moves the legs' pulses from the middle of the PWM period, from the next period on: by this share
 * of it, later when positive. One update a period; what would leave the period is cut off. */
void cvk_rig_shift(cvk_rig *rig, const double shift[3]);

/* The gate driver's registers. False when there is no such address. */
bool cvk_rig_gate_read(cvk_rig *rig, unsigned address, uint16_t *value) CVK_MUST_CHECK;
bool cvk_rig_gate_write(cvk_rig *rig, unsigned address, uint16_t value) CVK_MUST_CHECK;

/* Storage. False outside the pages and after a power failure. */
bool cvk_rig_storage_read(const cvk_rig *rig, size_t at, void *bytes, size_t count) CVK_MUST_CHECK;
bool cvk_rig_storage_program(cvk_rig *rig, size_t at, const void *bytes,
                             size_t count) CVK_MUST_CHECK;
bool cvk_rig_storage_erase(cvk_rig *rig, unsigned page) CVK_MUST_CHECK;

/* Time since the start; where everything is now; what the config has become without what is
 * switched off; whether the switches follow the duties. */
double cvk_rig_time_s(const cvk_rig *rig);
const cvk_rig_state *cvk_rig_state_of(const cvk_rig *rig);
const cvk_rig_config *cvk_rig_config_of(const cvk_rig *rig);
bool cvk_rig_bridge_is_on(const cvk_rig *rig);

/* Only the clock moves on: for what happens at times, such as slow readings. */
void cvk_rig_pass_time(cvk_rig *rig, double time_s);

/* What the seed has drawn for a current channel: reading = gain * current + offset. */
void cvk_rig_true_channel(const cvk_rig *rig, int leg, double *gain, double *offset_a);

/* The same for the rotor sensors: how far each hall is from its place (electrical), and the sin/cos
 * sensor's offsets, gain of sin over cos less one, and quadrature. */
void cvk_rig_true_halls(const cvk_rig *rig, double place_e_rad[3]);
void cvk_rig_true_sincos(const cvk_rig *rig, double *sin_offset_v, double *cos_offset_v,
                         double *gain_mismatch, double *quadrature_rad);

/* Energies are counted from here on, at some cost in time. */
void cvk_rig_start_meter(cvk_rig *rig);
const cvk_rig_meter *cvk_rig_meter_of(const cvk_rig *rig);

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
