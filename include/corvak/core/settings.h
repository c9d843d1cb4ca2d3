/* SPDX-License-Identifier: Apache-2.0
 *
 * The settings of a drive: everything that may be tuned, one struct, one section a module. Keys,
 * units, ranges, presets and help of all of it stand in the parameter table (parameters.h); a tune
 * file holds them by their keys. What is soldered is not here: see cvk_hardware in drive.h.
 *
 * A number that is not known yet is 0 where the table's range says so: what needs it refuses to
 * start and names it.
 */
#ifndef CORVAK_CORE_SETTINGS_H
#define CORVAK_CORE_SETTINGS_H

#include "corvak/core/angles.h"
#include "corvak/core/status.h"

#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct cvk_motor_settings {
    int32_t pole_pairs; /* 0: not known */
    float resistance_ohm, inductance_d_h, inductance_q_h, flux_linkage_wb;
} cvk_motor_settings;

/* The inverter's own voltage (dead time and devices) against the current of a phase: it bends at
 * the knee, where half of it is reached. */
typedef struct cvk_inverter_settings {
    float voltage_v, knee_a;
} cvk_inverter_settings;

typedef struct cvk_modulation_settings {
    int32_t depth; /* cvk_depth (svm.h) */
} cvk_modulation_settings;

typedef struct cvk_torque_settings {
    int32_t least_current;     /* 1: a salient motor gets the d current that spares most of the q */
    int32_t weakening;         /* 1: at the end of the voltage a d current weakens the field */
    float weakening_current_a; /* the largest such d current, also of one that is asked for; 0:
                                  limit.current_a */
} cvk_torque_settings;

typedef struct cvk_sensing_settings {
    float offset_phase_a_a, offset_phase_b_a, offset_phase_c_a; /* reading at no current */
    float delay_s;                                              /* age of a current reading */
    float rest_s; /* length of the offset calibration at rest */
} cvk_sensing_settings;

typedef struct cvk_protect_settings {
    float trip_current_a, bus_min_v, bus_max_v;
} cvk_protect_settings;

typedef struct cvk_limit_settings {
    float current_a; /* phase current, peak */
} cvk_limit_settings;

typedef struct cvk_current_settings {
    float bandwidth_hz;
    int32_t harmonics; /* 1: the fifth and seventh are rejected */
} cvk_current_settings;

typedef struct cvk_speed_settings {
    float gain_a_s;            /* A per electrical rad/s */
    float integral_gain_a;     /* A per electrical rad/s per s */
    float current_a;           /* largest torque current; 0: 70 % of limit.current_a */
    float acceleration_rad_s2; /* slew of the set-point, electrical; 0: none */
    float jerk_rad_s3;         /* slew of that; 0: none */
    float feedforward_a_s2;    /* A per electrical rad/s^2 */
} cvk_speed_settings;

typedef struct cvk_position_settings {
    float gain_per_s;  /* speed per position error; 0: not known */
    float speed_rad_s; /* electrical, highest of a move; 0: not known */
    int32_t spring;    /* 1: no integral */
} cvk_position_settings;

/* Which source gives the angle while the motor turns by its own angle. */
typedef enum cvk_angle_choice { CVK_BY_ROTOR_SENSOR = 0, CVK_BY_OBSERVER } cvk_angle_choice;

typedef struct cvk_angle_settings {
    int32_t source; /* cvk_angle_choice */
} cvk_angle_settings;

/* What makes the sensor's offset count after power-up. */
typedef enum cvk_rotor_startup {
    CVK_ROTOR_STORED = 0, /* the one in the settings: holds until the sensor is mounted anew */
    CVK_ROTOR_INDEX,      /* the same, once an encoder's index mark has gone by */
    CVK_ROTOR_CALIBRATE   /* a calibration, after each power-up */
} cvk_rotor_startup;

#define CVK_ROTOR_HARMONICS 2
#define CVK_HALLS_SHARE 0.5f /* of rotor.bandwidth_hz, that halls are tracked with */
#define CVK_ROTOR_EDGES 6

typedef struct cvk_rotor_settings {
    int32_t kind;             /* cvk_rotor_kind */
    int32_t counts;           /* encoder: per turn */
    int32_t periods_per_turn; /* sin/cos; 0: one per pole pair */
    int32_t reversed;         /* 1: counts against the field's direction */
    int32_t startup;          /* cvk_rotor_startup */
    float offset_rad;         /* electrical angle at sensor angle zero */
    float latency_s;          /* age of a reading */
    float bandwidth_hz;       /* of the tracking filter */
    /* The reading x errs by the sum of cosine_n cos(n x) + sine_n sin(n x), in x. */
    float cosine_1_rad, sine_1_rad, cosine_2_rad, sine_2_rad;
    float index_rad; /* encoder: sensor angle at the mark */
    /* sin/cos: amplitude (0: not known), offsets, gain of sin over cos, sin's lead over a quarter
     */
    float amplitude_v, sin_offset_v, cos_offset_v, gain_ratio, quadrature_rad;
    /* halls: how far edge n lies behind its place, going up; and between up and down */
    float hall_edge_1_rad, hall_edge_2_rad, hall_edge_3_rad, hall_edge_4_rad, hall_edge_5_rad,
        hall_edge_6_rad, hall_hysteresis_rad;
    float tachometer_v_s; /* volts per mechanical rad/s */
} cvk_rotor_settings;

/* Share of the tracking bandwidth, at least, that a slow rotor leaves: it still follows
 * accelerations. */
#define CVK_LEAST_PACE 0.4f

typedef struct cvk_observer_settings {
    int32_t kind;                   /* cvk_observer_kind: the one whose angle is used */
    int32_t all;                    /* 1: the others run beside it */
    int32_t adapt;                  /* 1: resistance and flux linkage follow what is seen */
    float bandwidth_rad_s;          /* of the flux: how fast its length is corrected */
    float tracking_bandwidth_rad_s; /* of angle and speed */
    float least_speed_rad_s;        /* electrical: below it the angle is not trusted */
} cvk_observer_settings;

/* Injection, for salient motors: the angle at standstill and at low speed. */
typedef struct cvk_injection_settings {
    float voltage_v;       /* its sign changes with every control period; 0: none */
    float bandwidth_rad_s; /* of angle and speed */
    float leave_rad_s;     /* electrical: above it the observer takes over */
    float pulse_s;         /* length of each of the two currents that tell north from south */
    float cross_rad_a;     /* angle by which a q current turns the axis that is seen */
} cvk_injection_settings;

/* Share of the magnets' flux linkage that a d current may take from the active flux of a salient
 * motor while it starts: beyond, the angle hardly shows. */
#define CVK_START_D_SHARE 0.35f

/* Starting without a sensor: a rotor that turns is caught; one that stands is taken along by a
 * current vector, until the observer sees it. */
typedef struct cvk_start_settings {
    int32_t catch_turning;     /* 1: look for a turning rotor first */
    int32_t retries;           /* after a start that failed */
    float current_a;           /* of the vector; 0: 70 % of limit.current_a */
    float align_s;             /* it stands still for so long at most, before it turns */
    float acceleration_rad_s2; /* electrical */
    float damping_s;           /* the vector gives way to a swinging rotor: rad per rad/s */
    float speed_rad_s;         /* electrical: below it the vector holds the rotor */
    float patience_s;          /* at that speed, before the start has failed */
} cvk_start_settings;

/* Defaults of the excitations (programs.h). */
typedef struct cvk_program_settings {
    float speed_rad_s; /* electrical, highest */
    float hold_s;      /* one plateau of a turning program */
} cvk_program_settings;

typedef struct cvk_settings {
    cvk_motor_settings motor;
    cvk_inverter_settings inverter;
    cvk_modulation_settings modulation;
    cvk_sensing_settings sensing;
    cvk_protect_settings protect;
    cvk_limit_settings limit;
    cvk_current_settings current;
    cvk_torque_settings torque;
    cvk_speed_settings speed;
    cvk_position_settings position;
    cvk_angle_settings angle;
    cvk_rotor_settings rotor;
    cvk_observer_settings observer;
    cvk_injection_settings injection;
    cvk_start_settings start;
    cvk_program_settings program;
} cvk_settings;

/* Every parameter at its preset. */
cvk_settings cvk_settings_default(void);

/* Each parameter against its range, then the set as a whole. CVK_OUT_OF_RANGE or CVK_CONTRADICTION
 * with the first refusal in `why` (may be null). Any context; takes some microseconds. */
cvk_status cvk_settings_check(const cvk_settings *settings, cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
