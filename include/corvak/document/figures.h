/* SPDX-License-Identifier: Apache-2.0
 *
 * Figures of results: one page each, FILE.png or FILE.svg, drawn by gnuplot. Each returns false,
 * with the complaint, when the name is another, or gnuplot is missing or fails.
 */
#ifndef CORVAK_DOCUMENT_FIGURES_H
#define CORVAK_DOCUMENT_FIGURES_H

#include "corvak/document/documents.h"
#include "corvak/files/complaint.h"
#include "corvak/files/log_writer.h"
#include "corvak/rig/comparison.h"

#ifdef __cplusplus
extern "C" {
#endif

/* The page to look at first, and the second one: misfit, inductance against angle and current, pole
 * pairs. The estimate was made with curves; `truth` may be null. */
bool cvk_draw_estimate(const cvk_estimate *estimate, const cvk_rig_config *truth, const char *path,
                       cvk_complaint *complaint);
bool cvk_draw_details(const cvk_estimate *estimate, const char *path, cvk_complaint *complaint);

/* The averaged against the switched inverter. */
bool cvk_draw_inverters(const cvk_rig_config *config, const cvk_rig_comparison *comparison,
                        const char *path, cvk_complaint *complaint);

bool cvk_draw_examination(const cvk_log *log, const cvk_examination *examination, const char *path,
                          cvk_complaint *complaint);
bool cvk_draw_calibration(const cvk_calibration *calibration, const char *log, const char *path,
                          cvk_complaint *complaint);
bool cvk_draw_pwm(const cvk_pwm_advice *advice, const char *name, const char *path,
                  cvk_complaint *complaint);
bool cvk_draw_range(const cvk_torque_map *map, const char *name, const char *path,
                    cvk_complaint *complaint);
bool cvk_draw_ladder(const cvk_ladder *ladder, int count, const cvk_run_setting *how,
                     const char *path, cvk_complaint *complaint);

/* `search` may be null. */
bool cvk_draw_replay(const cvk_replay *replay, const cvk_replay_trace *trace,
                     const cvk_search *search, double pole_pairs, const char *log, const char *path,
                     cvk_complaint *complaint);

/* Steps of the current and of the speed; each may be null. */
bool cvk_draw_steps(const cvk_measured_step *current, const cvk_measured_step *speed,
                    double rpm_per_rad_s, const char *name, const char *path,
                    cvk_complaint *complaint);

/* A run of this length, collected in bounded memory. */
typedef struct cvk_run_figure cvk_run_figure;
cvk_run_figure *cvk_run_figure_new(double length_s);
void cvk_run_figure_row(cvk_run_figure *figure, const cvk_device_row *row,
                        const cvk_bench_truth *truth, double pole_pairs);
bool cvk_run_figure_draw(const cvk_run_figure *figure, const char *path, const char *rig,
                         const char *scenario, cvk_complaint *complaint);
void cvk_run_figure_free(cvk_run_figure *figure);

/* A log of any length, collected in bounded memory: the least and the most of each column in each
 * of a number of time bins. */
typedef struct cvk_record_figure cvk_record_figure;
cvk_record_figure *cvk_record_figure_new(const cvk_log_writer_column *columns, size_t count);
void cvk_record_figure_row(cvk_record_figure *figure, const double *cells);
bool cvk_record_figure_draw(cvk_record_figure *figure, const char *title, const char *path,
                            cvk_complaint *complaint);
void cvk_record_figure_free(cvk_record_figure *figure);

#ifdef __cplusplus
}
#endif
#endif
