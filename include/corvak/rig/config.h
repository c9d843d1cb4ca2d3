/* SPDX-License-Identifier: Apache-2.0
 *
 * What a rig is made of. Every field can be set by a rig file; meaning, range and default of each
 * stand in one table (src/rig/config.c), printed by `corvak rig --keys`. Numbers are doubles in SI
 * units (temperatures in degC), choices are ints that index the names of the table.
 */
#ifndef CORVAK_RIG_CONFIG_H
#define CORVAK_RIG_CONFIG_H

#include "corvak/core/settings.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_RIG_NAME_LENGTH 32

typedef enum cvk_rig_winding { CVK_WINDING_STAR, CVK_WINDING_DELTA } cvk_rig_winding;

/* Phase quantities are those of the equivalent star, at 25 degC and small current. */
typedef struct cvk_rig_motor {
    double pole_pairs; /* whole number */
    double resistance_ohm;
    double inductance_d_h, inductance_q_h; /* incremental, at zero current */
    double flux_linkage_wb;                /* peak, per phase */
    /* flux harmonics as a share of the fundamental; the third is seen in a delta winding only */
    double emf_harmonic_3, emf_harmonic_5, emf_harmonic_7;
    double magnet_spread; /* size of the once-per-revolution pattern, share of the flux */
    int winding;          /* cvk_rig_winding */
    /* current at which the incremental inductance of an axis has halved; 0: never */
    double saturation_d_a, saturation_q_a;
    double saturation_bias;  /* how far the magnet has saturated the d axis already: 0 .. 0.8 */
    double cross_saturation; /* 1/Lq rises by this share when the d flux rises by its scale */
    double iron_loss_ohm;    /* resistance in parallel with the back-EMF; 0: no iron loss */
    double winding_k_w;      /* thermal resistance winding to ambient */
    double winding_j_k;      /* heat capacity */
    double ambient_degc;     /* also the winding's temperature at the start */
    double copper_per_k;     /* resistance rises by this share per K, from 25 degC */
    double magnet_per_k;     /* flux falls by this share per K, from 25 degC */
} cvk_rig_motor;

typedef struct cvk_rig_shaft {
    double inertia_kg_m2; /* rotor and what is rigidly on it */
    double friction_coulomb_nm;
    double friction_viscous_nm_s;
    double friction_static_nm; /* torque that sets a resting shaft in motion, at least Coulomb */
    double cogging_nm;         /* amplitude, six times per electrical turn */
    double load_inertia_kg_m2; /* second mass behind a compliant coupling; 0: none */
    double coupling_nm_rad, coupling_nm_s;
} cvk_rig_shaft;

typedef enum cvk_rig_fidelity { CVK_FIDELITY_AVERAGED, CVK_FIDELITY_SWITCHED } cvk_rig_fidelity;

typedef struct cvk_rig_inverter {
    int fidelity; /* cvk_rig_fidelity */
    double pwm_hz;
    double updates_per_period; /* control calls per PWM period: 1 or 2 */
    double dead_time_s;
    double minimum_pulse_s;      /* shorter pulses are not sent; 0: all are */
    double output_capacitance_f; /* of one leg: at small currents it carries the node over */
    double switch_resistance_ohm;
    double diode_drop_v;
    double diode_resistance_ohm; /* 0: as of the switch */
} cvk_rig_inverter;

typedef enum cvk_rig_supply_kind { CVK_SUPPLY_BATTERY, CVK_SUPPLY_BENCH } cvk_rig_supply_kind;

typedef struct cvk_rig_supply {
    int kind;     /* a bench supply takes no current back */
    double bus_v; /* open circuit */
    double resistance_ohm;
    double cable_inductance_h;
    double capacitor_f; /* at the inverter */
    double capacitor_resistance_ohm;
    double current_limit_a; /* of a bench supply; 0: none */
} cvk_rig_supply;

typedef enum cvk_rig_current_sensing {
    CVK_SENSING_INLINE,       /* in the motor wires: valid at any instant */
    CVK_SENSING_THREE_SHUNTS, /* below the low switches: valid while they conduct */
    CVK_SENSING_TWO_SHUNTS,   /* the same, phases a and b */
    CVK_SENSING_SINGLE_SHUNT  /* in the bus: two active vectors show two phases */
} cvk_rig_current_sensing;

/* Whether the motor's terminals are measured while the bridge is off. */
typedef enum cvk_rig_terminals {
    CVK_TERMINALS_MEASURED,
    CVK_TERMINALS_NOT_MEASURED
} cvk_rig_terminals;

/* Tolerances are bounds: gain and offset of each channel are drawn evenly from +- the bound. */
typedef struct cvk_rig_sensing {
    int current_sensing;      /* cvk_rig_current_sensing */
    double adc_bits;          /* 0: no quantisation */
    double current_range_a;   /* the converter's: -range .. +range */
    double amplifier_range_a; /* the amplifier saturates softly towards it; 0: it does not */
    double amplifier_lag_s;   /* a current reading is as old as this */
    double current_noise_a;   /* rms */
    double current_offset_a;
    double current_drift_a_s; /* bound of the offset's drift */
    double current_gain_tolerance;
    double ringing_a;       /* error just after an edge of the channel's own leg */
    double ringing_decay_s; /* it falls by e in this time */
    double settling_s;      /* a shunt must carry its current this long before the sample */
    int terminal_voltages;  /* cvk_rig_terminals */
    double voltage_range_v; /* 0 .. range, bus and terminals */
    double voltage_noise_v;
    double voltage_gain_tolerance;
    double temperature_noise_k, temperature_offset_k;
} cvk_rig_sensing;

typedef enum cvk_rig_phases {
    CVK_PHASES_ABC,
    CVK_PHASES_BCA,
    CVK_PHASES_CAB,
    CVK_PHASES_ACB,
    CVK_PHASES_BAC,
    CVK_PHASES_CBA
} cvk_rig_phases;

/* phases "bca": inverter leg a drives motor phase b, leg b phase c, leg c phase a. */
typedef struct cvk_rig_wiring {
    int phases;          /* cvk_rig_phases */
    int sensor_reversed; /* every rotor sensor counts against the motor's direction */
    int hall_wires;      /* cvk_rig_phases: input a carries hall b, ... */
} cvk_rig_wiring;

typedef struct cvk_rig_rotor_sensor {
    int kind;       /* cvk_rotor_kind; what the controller uses */
    int calibrated; /* the controller knows its direction and offset, as after a calibration */
    int all_fitted; /* every kind is fitted and logged, not only the one in use */
    double counts;  /* absolute and encoder (four per line), per turn; 0: unlimited */
    double noise_mech_rad;  /* absolute, rms */
    double offset_mech_rad; /* of every kind: reading at electrical angle zero of the motor */
    double harmonic_1_mech_rad, harmonic_2_mech_rad; /* absolute: once and twice per turn */
    double latency_s;                                /* absolute: age of the reading */
    double index;                                    /* encoder: 1 has an index mark, 0 has none */
    double eccentricity_mech_rad;                    /* encoder: error once per turn */
    double missing_share;                            /* encoder: share of counts that are lost */
    double periods_per_turn; /* sin/cos and resolver; 0: one per pole pair */
    double amplitude_v;      /* sin/cos */
    double centre_offset_v;  /* sin/cos: bound of each channel's offset */
    double gain_mismatch;    /* sin/cos: bound, share */
    double quadrature_rad;   /* sin/cos: bound of the angle missing to a quarter period */
    double harmonic_3;       /* sin/cos: share of the amplitude */
    double sincos_noise_v;
    double hall_misplacement_e_rad; /* bound for each hall, electrical */
    double hall_hysteresis_e_rad;   /* full width, electrical */
    double hall_bounce_s;           /* after an edge the output is random this long */
    int hall_dead;                  /* 0 none, 1..3 hall a, b, c does not move */
    double tachometer_v_s;          /* volts per mechanical rad/s */
    double tachometer_ripple;       /* share */
    double tachometer_noise_v;
} cvk_rig_rotor_sensor;

typedef enum cvk_rig_overcurrent {
    CVK_OVERCURRENT_CYCLE,
    CVK_OVERCURRENT_LATCH
} cvk_rig_overcurrent;

typedef struct cvk_rig_gate_driver {
    double overcurrent_a; /* full scale of the comparator's limit; 0: no comparator */
    int overcurrent_mode; /* cvk_rig_overcurrent at power-up */
    double hot_degc;      /* winding temperature that sets the over-temperature bit */
} cvk_rig_gate_driver;

/* Set-points from outside, each 0 .. 1 as the scenario says, as their wires show them. */
typedef struct cvk_rig_inputs {
    double pulse_noise_s; /* pedal pulse of 1 .. 2 ms, 50 per second */
    double pulse_loss;    /* share of pulses that do not arrive */
    double pedal_noise_v; /* analogue pedal, 0.5 .. 4.5 V */
    double digital_loss;  /* share of digital set-points that do not arrive, 100 per second */
} cvk_rig_inputs;

/* One switch for each imperfection: "off" makes that part of the rig perfect. */
typedef struct cvk_rig_imperfections {
    int saturation, harmonics, unequal_magnets, cogging, iron_loss, heating, friction, compliance;
    int dead_time, device_drops, minimum_pulse, supply_sag;
    int current_noise, current_offset, current_drift, current_gain, amplifier_range, amplifier_lag,
        ringing, settling, quantisation, voltage_noise, voltage_gain, temperature_error;
    int absolute_noise, absolute_harmonics, absolute_latency, encoder_eccentricity, encoder_missing,
        sincos_ellipse, sincos_harmonic, sincos_noise, hall_misplacement, hall_hysteresis,
        hall_bounce, hall_dead, tachometer_ripple, tachometer_noise;
    int input_noise, input_loss;
} cvk_rig_imperfections;

typedef struct cvk_rig_config {
    char name[CVK_RIG_NAME_LENGTH];
    cvk_rig_motor motor;
    cvk_rig_shaft shaft;
    cvk_rig_inverter inverter;
    cvk_rig_supply supply;
    cvk_rig_sensing sensing;
    cvk_rig_wiring wiring;
    cvk_rig_rotor_sensor rotor_sensor;
    cvk_rig_gate_driver gate_driver;
    cvk_rig_inputs inputs;
    cvk_rig_imperfections imperfections;
    cvk_settings tune; /* of the controller on this bench; not part of the physics */
    /* What of the tune somebody has stated; the rest is preset to what this bench's data
     * sheets say: kind and counts of the rotor sensor, trips within what the channels measure. */
    struct {
        bool kind, counts, periods, reversed, offset, pole_pairs, trip, bus_max;
    } stated;
} cvk_rig_config;

/* One field of the config that a rig file can set. */
typedef struct cvk_rig_field {
    const char *section, *name;
    unsigned offset;          /* in cvk_rig_config: of a double, or of an int for a choice */
    double low, high;         /* allowed range of a number, both ends included */
    double preset;            /* what counts when the key is not given; NaN: it must be given */
    const char *const *names; /* choice: its names, ended by null; else null */
    const char *imperfection; /* the switch that sets it to zero when off; or null */
    const char *meaning;
} cvk_rig_field;

/* All fields, in file order; the count goes to `count`. */
const cvk_rig_field *cvk_rig_fields(unsigned *count);

/* Value of a field as a number (the index for a choice), and how to set it. */
double cvk_rig_field_value(const cvk_rig_config *config, const cvk_rig_field *field);
void cvk_rig_field_set(cvk_rig_config *config, const cvk_rig_field *field, double value);

/* Every optional field at its preset, every needed one at NaN, all imperfections on. */
cvk_rig_config cvk_rig_config_default(void);

/* Every field checked against its range; the refused one goes to `field` (may be null). */
cvk_status cvk_rig_check(const cvk_rig_config *config, const cvk_rig_field **field) CVK_MUST_CHECK;

/* Contradictions between fields that are each in range: a sentence with the cure, or null. */
const char *cvk_rig_contradiction(const cvk_rig_config *config);

/* The same for what moves too fast to be simulated at this PWM frequency. */
const char *cvk_rig_too_fast(const cvk_rig_config *config);

/* Switches one imperfection by its name, or all with "all". False when there is no such name. */
bool cvk_rig_switch(cvk_rig_config *config, const char *imperfection, bool on) CVK_MUST_CHECK;

/* The config with every switched-off imperfection gone: what the rig then simulates. */
cvk_rig_config cvk_rig_effective(const cvk_rig_config *config);

/* Resistance that commanded voltages show at 25 degC: winding plus one switch. */
double cvk_rig_visible_resistance(const cvk_rig_config *config);

/* Voltage by which the dead time and the diodes shift a phase that carries ample current. */
double cvk_rig_dead_time_voltage(const cvk_rig_config *config);

/* Current that gets a leg's node just across within the dead time: where that voltage bends. */
double cvk_rig_crossover_current(const cvk_rig_config *config);

#ifdef __cplusplus
}
#endif
#endif
