/* SPDX-License-Identifier: Apache-2.0
 *
 * The moment: every quantity of one control period in one struct, in the order in which it comes to
 * be. Each step of the hot path reads what stands above its part and writes its own. The signal
 * table (signals.h) gives each a name.
 */
#ifndef CORVAK_CORE_MOMENT_H
#define CORVAK_CORE_MOMENT_H

#include "corvak/core/angles.h"
#include "corvak/core/frames.h"

#include <stdbool.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

/* Raw readings of the rotor sensors: fill in those that are fitted, leave the others at 0. */
typedef struct cvk_rotor_readings {
    float absolute_mech_rad; /* any number of turns */
    int32_t encoder_counts;  /* since any instant; may wrap around */
    int32_t index_passed;    /* 1 when the index mark went by since the readings before */
    float sin_v, cos_v;
    int32_t hall; /* 0 .. 7: hall a is bit 0 */
    float tachometer_v;
} cvk_rotor_readings;

/* What the port hands over at the sample instant. */
typedef struct cvk_readings {
    cvk_abc current_a;     /* positive into the motor, at the carrier valley, offsets included */
    int32_t current_valid; /* bits 0, 1, 2: phases a, b, c were really seen */
    float bus_v;
    cvk_abc terminal_v; /* against the negative bus; NaN where not measured */
    cvk_rotor_readings rotor;
    float winding_degc;    /* NaN when there is none */
    int32_t stage_tripped; /* 1: the power stage has switched off by itself (a comparator, the gate
                              driver): a fault, from this call on */
} cvk_readings;

#define CVK_ALL_CURRENTS_VALID 7

/* Why a source is not to be trusted now. */
typedef enum cvk_angle_reason {
    CVK_ANGLE_FINE = 0,
    CVK_ANGLE_OFF,      /* not enabled, or not yet any reading */
    CVK_ANGLE_TOO_SLOW, /* too little back-EMF */
    CVK_ANGLE_NO_MATCH, /* what it expects is not what is measured */
    CVK_ANGLE_NOT_SETTLED,
    CVK_ANGLE_BAD_READING, /* no such reading: a bad code, too small an amplitude */
    CVK_ANGLE_JUMPED,      /* a reading where the rotor cannot be */
    CVK_ANGLE_STUCK,       /* it stays while the rotor turns */
    CVK_ANGLE_SPEED_ONLY,  /* the sensor tells the speed alone */
    CVK_ANGLE_NO_SALIENCY, /* both axes' inductances are as good as equal at this current */
    CVK_ANGLE_REASONS
} cvk_angle_reason;

typedef struct cvk_angle {
    float angle_rad;   /* electrical, -pi .. pi, at the sample instant */
    float speed_rad_s; /* electrical */
    float quality;     /* 0 .. 1; of an observer: probability that it is off by less than 30 deg */
    int32_t reason;    /* cvk_angle_reason */
} cvk_angle;

/* Why the bridge was switched off. The first cause is kept until it is cleared. */
typedef enum cvk_fault {
    CVK_FAULT_NONE = 0,
    CVK_FAULT_SAMPLE,      /* a sample is not a number */
    CVK_FAULT_OVERCURRENT, /* a phase current is beyond protect.trip_current_a */
    CVK_FAULT_BUS_VOLTAGE, /* the bus is outside protect.bus_min_v .. bus_max_v */
    CVK_FAULT_START,       /* the rotor did not follow the start */
    CVK_FAULT_ANGLE,       /* the angle was lost while the motor turned */
    CVK_FAULT_REST,        /* currents flowed during the calibration at rest */
    CVK_FAULT_STAGE,       /* the power stage has switched off by itself */
    CVK_FAULT_COUNT
} cvk_fault;

/* What the drive is to do. */
typedef enum cvk_mode {
    CVK_MODE_OFF = 0, /* bridge off */
    CVK_MODE_REST,    /* bridge off: the offsets of the current channels are found */
    CVK_MODE_VOLTAGE, /* voltage_v, stationary frame */
    CVK_MODE_IMPOSED, /* current_a in a frame that turns at speed_rad_s, whatever the rotor does */
    CVK_MODE_CURRENT, /* current_a, in the rotor's frame */
    CVK_MODE_SPEED,   /* speed_rad_s, with current_a.d kept */
    CVK_MODE_STOP,    /* slows down as SPEED does, then off */
    CVK_MODE_CALIBRATE, /* the rotor sensor's direction and offset are found: the rotor turns */
    CVK_MODE_TORQUE,    /* torque_nm, with current_a.d kept */
    CVK_MODE_POSITION,  /* position_turns and position_mech_rad, by a profile; then held there */
    CVK_MODE_BRAKE,     /* stops as fast as the current limit allows; then the winding is shorted */
    CVK_MODE_COUNT
} cvk_mode;

typedef struct cvk_request {
    int32_t mode;            /* cvk_mode */
    cvk_ab voltage_v;        /* each -1000 .. 1000 */
    cvk_dq current_a;        /* each -1e4 .. 1e4 */
    float speed_rad_s;       /* electrical, -1e5 .. 1e5 */
    float torque_nm;         /* -1000 .. 1000 */
    int32_t position_turns;  /* of the shaft, -1e6 .. 1e6, */
    float position_mech_rad; /* and so much more: -1000 .. 1000 */
} cvk_request;

/* Where a calibration of the rotor sensor stands. */
typedef enum cvk_calibration_phase {
    CVK_CALIBRATE_IDLE = 0,
    CVK_CALIBRATE_RISE, /* a voltage rises until the current flows */
    CVK_CALIBRATE_SETTLE,
    CVK_CALIBRATE_UP, /* the vector takes the rotor round */
    CVK_CALIBRATE_DOWN,
    CVK_CALIBRATE_SETTLE_AGAIN, /* with less current */
    CVK_CALIBRATE_UP_AGAIN,
    CVK_CALIBRATE_DOWN_AGAIN,
    CVK_CALIBRATE_REST,   /* the rotor comes to rest */
    CVK_CALIBRATE_TORQUE, /* by the angle found: a little torque, */
    CVK_CALIBRATE_TORQUE_BACK,
    CVK_CALIBRATE_SPEED, /* and a little speed */
    CVK_CALIBRATE_SPEED_BACK,
    CVK_CALIBRATE_DONE,
    CVK_CALIBRATE_FAILED,
    CVK_CALIBRATE_PHASES
} cvk_calibration_phase;

/* Why it failed. */
typedef enum cvk_calibration_reason {
    CVK_CALIBRATE_FINE = 0,
    CVK_CALIBRATE_NO_CURRENT,    /* no voltage makes the current flow */
    CVK_CALIBRATE_UNPLUGGED,     /* the sensor's readings are none */
    CVK_CALIBRATE_HALL_DEAD,     /* one hall never changes */
    CVK_CALIBRATE_FROZEN,        /* the reading stays as it is to the last bit */
    CVK_CALIBRATE_BLOCKED,       /* the sensor did not move */
    CVK_CALIBRATE_TOO_LITTLE,    /* it rocked, but did not go on */
    CVK_CALIBRATE_NOT_FOLLOWING, /* it moved, but not with the field */
    CVK_CALIBRATE_REVERSED,      /* one way in one sweep, the other way in another */
    CVK_CALIBRATE_LOAD,          /* a load pulls */
    CVK_CALIBRATE_WRONG_WAY,     /* torque turns the rotor against its direction */
    CVK_CALIBRATE_NO_TORQUE,     /* torque does not turn it */
    CVK_CALIBRATE_NO_SPEED,      /* the speed is not reached */
    CVK_CALIBRATE_REASONS
} cvk_calibration_reason;

/* Where a start without a sensor stands. */
typedef enum cvk_start_phase {
    CVK_START_IDLE = 0, /* nothing of the kind */
    CVK_START_LISTEN,   /* does the rotor turn? By the terminals, or by no current being let flow */
    CVK_START_PROBE,    /* the same, by two pulses of a shorted winding */
    CVK_START_ALIGN,    /* the vector stands still */
    CVK_START_TURN,     /* it turns, and the rotor with it */
    CVK_START_SEEK,     /* the rotor's axis by injection, then which end is north */
    CVK_START_RUN,      /* the observer, or the injection, gives the angle */
    CVK_START_YIELD,    /* slow: the observer is about to hand back to the imposed angle */
    CVK_START_PHASES
} cvk_start_phase;

/* Why the last attempt of a start failed. */
typedef enum cvk_start_reason {
    CVK_START_FINE = 0,
    CVK_START_NO_CURRENT,  /* it did not flow */
    CVK_START_BLOCKED,     /* the rotor did not move */
    CVK_START_SLIPPED,     /* it moved, but not with the vector */
    CVK_START_UNSEEN,      /* it turned with the vector, but the observer did not trust its angle */
    CVK_START_NO_POLARITY, /* a d current changes the inductance by too little either way */
    CVK_START_REASONS
} cvk_start_reason;

typedef struct cvk_moment {
    uint32_t tick; /* control periods since cvk_drive_init(); wraps around */
    cvk_readings readings;
    /* measure */
    cvk_abc phase_a;     /* currents: offsets off, missing ones completed */
    cvk_ab current_ab_a; /* the same as a vector */
    cvk_ab base_ab_a;    /* without what an injection makes of it */
    cvk_abc offset_a;    /* of the current channels, taken off above */
    int32_t rest_done;   /* 1 when the calibration at rest has found them */
    float bus_v;
    cvk_ab acted_v; /* voltage that acted since the sample before; with the bridge off, by the
                       terminals' */
    int32_t terminals_known; /* 1: the bridge is off and the terminals are measured */
    cvk_ab acting_v;         /* voltage that acts until the next sample */
    /* protect */
    int32_t fault; /* cvk_fault */
    /* a change of settings on trial (trial.h) */
    int32_t trial;           /* cvk_trial_state */
    int32_t trial_reason;    /* cvk_trial_reason */
    int32_t settings_number; /* sets that came into force since init, also by going back */
    /* angles */
    cvk_angle source[CVK_ANGLE_SOURCES];
    float adapted_resistance_ohm,
        adapted_flux_wb; /* as the observer has found them; 0: not known */
    int32_t rotor_known; /* 1: the rotor sensor's offset holds since power-up */
    /* request and start */
    cvk_request request;   /* whoever commands: a program or the caller */
    int32_t program_step;  /* of the excitation that runs, from 1 on; 0: none, or it is over */
    int32_t recorded;      /* 1: that step belongs into a log */
    int32_t start_phase;   /* cvk_start_phase */
    int32_t start_attempt; /* 1 and up; each one after the first has more current or more time */
    int32_t start_reason;  /* cvk_start_reason: why the attempt before, or the start, failed */
    float start_follow;    /* cosine of the angle by which the rotor trails the vector */
    int32_t start_gives_v; /* 1: it has set voltage_set_v, below */
    int32_t bridge_waits;  /* 1: the start keeps the bridge off although a mode wants it on */
    int32_t angle_source;  /* cvk_angle_source: the one in use */
    cvk_angle angle;       /* of that source */
    float winding_ohm, winding_warmer_k; /* by current at standstill; K above motor.resistance_ohm's
                                            temperature. 0: not seen yet */
    float saliency;  /* inductance q over d at this current, by injection; 0: not seen yet */
    float start_d_a; /* d current that the start has left over or needs */
    /* calibration of the rotor sensor */
    int32_t calibration;                   /* cvk_calibration_phase */
    int32_t calibration_reason;            /* cvk_calibration_reason */
    int32_t found_direction;               /* 1, -1; 0 nothing yet */
    float found_offset_rad, found_lag_rad; /* the rotor trails the current by the lag */
    float found_shift_rad;                 /* of the offset, with less current */
    float found_alike;       /* 0 .. 1: how steadily sensor and current lay to each other */
    float found_share;       /* of the current limit, that turned the rotor */
    float found_edge_rad[6]; /* halls: by how much each edge is passed late, as the parameters */
    /* reference */
    int32_t position_turns;  /* whole turns of the shaft since power-up, */
    float position_mech_rad; /* and so much more: less than a turn */
    float speed_set_rad_s;   /* after its slew */
    float weakening_a;       /* d current that weakens the field: 0 or below */
    float torque_room_nm;    /* largest torque that current and voltage leave */
    cvk_dq current_set_a;    /* after limits */
    /* voltage */
    cvk_rotation frame;   /* of `angle` */
    cvk_dq current_a;     /* in the frame of `angle` */
    cvk_ab voltage_set_v; /* wanted from the next sample on */
    /* modulate */
    int32_t bridge_on;
    cvk_abc duty;          /* 0 .. 1 */
    cvk_abc shift;         /* single shunt: by which share of the period a pulse comes later */
    cvk_ab voltage_made_v; /* what these duties make */
    float headroom;        /* 1: no voltage wanted; 0: at the hexagon's edge or beyond */
} cvk_moment;

/* English names, never null. */
const char *cvk_fault_text(cvk_fault fault);
const char *cvk_angle_source_text(cvk_angle_source source);
const char *cvk_angle_reason_text(cvk_angle_reason reason);
const char *cvk_mode_text(cvk_mode mode);
const char *cvk_start_phase_text(cvk_start_phase phase);
/* A sentence: what was seen, and what to do. */
const char *cvk_start_reason_text(cvk_start_reason reason);
const char *cvk_calibration_phase_text(cvk_calibration_phase phase);
/* A sentence: what is wrong, and what to do. */
const char *cvk_calibration_reason_text(cvk_calibration_reason reason);

#ifdef __cplusplus
}
#endif
#endif
