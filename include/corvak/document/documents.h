/* SPDX-License-Identifier: Apache-2.0
 *
 * The documents of what Corvak computes, each of one result. Free them with cvk_doc_free().
 */
#ifndef CORVAK_DOCUMENT_DOCUMENTS_H
#define CORVAK_DOCUMENT_DOCUMENTS_H

#include "corvak/document/document.h"
#include "corvak/host/change.h"
#include "corvak/host/gains.h"
#include "corvak/host/hand_check.h"
#include "corvak/host/ladder.h"
#include "corvak/host/measured_step.h"
#include "corvak/host/plan.h"
#include "corvak/host/pwm_advice.h"
#include "corvak/host/replay.h"
#include "corvak/host/run.h"
#include "corvak/host/self_calibration.h"
#include "corvak/host/torque_map.h"
#include "corvak/ident/calibrate.h"
#include "corvak/ident/examine.h"
#include "corvak/rig/config.h"
#include "corvak/rig/outlook.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How a key of the card is called: "flux linkage". */
const char *cvk_card_label(cvk_card_key key);
/* "flux", "emf", "kalman". */
const char *cvk_observer_name(int kind);
/* "note", "warning" or "error". */
const char *cvk_severity_text(cvk_severity severity);

/* The rig's true value of a key; NaN when the rig has none. For a card: when its voltages were
 * measured, its resistance has no switch in it. */
double cvk_rig_truth(const cvk_rig_config *rig, cvk_card_key key);
double cvk_card_truth(const cvk_rig_config *rig, const cvk_card *card, cvk_card_key key);

/* The tables that files and options choose from: each row that has `word` in its name or meaning;
 * null: all. `*count`: how many. */
cvk_doc *cvk_parameters_document(const char *word, size_t *count);
cvk_doc *cvk_signals_document(const char *word, size_t *count);
cvk_doc *cvk_excitations_document(const char *word, size_t *count);
cvk_doc *cvk_rig_keys_document(const char *word, size_t *count);

/* What a rig can do, and what is implausible in it. */
cvk_doc *cvk_outlook_document(const cvk_rig_config *config, const cvk_rig_outlook *outlook);

/* A card; `why`: what is not known with what would show it. */
cvk_doc *cvk_card_document(const cvk_card *card, bool why);

/* An estimate; `truth` may be null: the rig to compare with. */
cvk_doc *cvk_estimate_document(const cvk_estimate *estimate, const cvk_rig_config *truth, bool why);
/* The same as one of many: its log's path, an exit status, and what was wrong, or null. */
cvk_doc *cvk_estimate_line_document(const cvk_estimate *estimate, const char *path, int status,
                                    const char *error);

/* Cards, or a card and a meter, side by side. */
#define CVK_COMPARED_MOST (CVK_CARD_COUNT + 2)
typedef struct cvk_compared {
    const char *key, *label;
    cvk_card_entry here, there;
    double ratio; /* of the intervals */
    bool agree;
} cvk_compared;
cvk_doc *cvk_comparison_document(const cvk_compared *line, int count, const char *other);

/* The health of a log. */
cvk_doc *cvk_examination_document(const cvk_examination *examination);

/* Sensors calibrated from a log; its wiring; a controller's own calibration. */
cvk_doc *cvk_calibration_document(const cvk_calibration *calibration, const char *log);
cvk_doc *cvk_wiring_document(const cvk_calibration *calibration, const char *log);
cvk_doc *cvk_self_calibration_document(const cvk_self_calibration *found, const char *name);
cvk_doc *cvk_hand_check_document(const cvk_hand_check *check);

/* Gains, with what a PWM frequency costs: people are told that too with `pwm_told`. */
cvk_doc *cvk_gains_document(const cvk_gains *gains, const cvk_pwm_advice *pwm, bool pwm_told,
                            const char *name);

/* What a motor can do; `winding_degc`: how warm it may be for long. */
cvk_doc *cvk_range_document(const cvk_torque_motor *motor, const cvk_torque_map *map,
                            const char *name, double winding_degc);

/* The next recording; `command` makes it, null when there is none. `hold_s` is as it stands. */
cvk_doc *cvk_plan_document(const cvk_plan *plan, const char *command);

/* What a motor is called and how it was run, for what came of it. */
typedef struct cvk_run_setting {
    const char *name, *scenario;
    bool distant;         /* over a link */
    long long seed;       /* of a bench, */
    const char *inverter; /* "switched" or "averaged" */
    double pole_pairs, current_limit_a, flux_linkage_wb, least_speed_rad_s;
    bool by_observer;
} cvk_run_setting;

cvk_doc *cvk_run_document(const cvk_run *run, const cvk_run_plan *plan, const cvk_run_setting *how);

/* Ladders in pairs, downwards and upwards; the second pair with a load. */
cvk_doc *cvk_ladder_document(const cvk_ladder *ladder, int count, const cvk_ladder_options *options,
                             double load_nm, const cvk_run_setting *how);

/* What was replayed, and searched for at the corners of what. */
typedef struct cvk_replay_setting {
    const char *log;
    double least_speed_rad_s;
    const cvk_search *search; /* or null */
    int searched;             /* cvk_observer_kind */
    const char *corners;
    const cvk_estimate *findings; /* of the log */
} cvk_replay_setting;
cvk_doc *cvk_replay_document(const cvk_replay *replay, const cvk_replay_rows *rows,
                             const cvk_replay_setting *how);

/* A change of a live session and what it did: a line of a history. `time` as text. */
cvk_doc *cvk_change_document(const cvk_session *session, const cvk_change *change,
                             const char *time);

/* A live session: what was changed, which steps were measured (null: not), and the values now. */
typedef struct cvk_tuning {
    const char *device;
    const cvk_session *session;
    const cvk_change *const *change;
    size_t changes;
    const cvk_measured_step *current, *speed;
} cvk_tuning;
cvk_doc *cvk_tuning_document(const cvk_tuning *tuning);

#ifdef __cplusplus
}
#endif
#endif
