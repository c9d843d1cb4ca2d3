/* SPDX-License-Identifier: Apache-2.0
 *
 * Measured steps in a session.
 */
#include "tune.h"

#include <math.h>
#include <string.h>

#define LENGTH_S 1.5 /* of a speed step, beside the time that the slew takes */

static void print_shape(const char *what, const cvk_step_shape *s)
{
    char settling[32] = "not settled";
    if (isfinite(s->settling_s)) {
        g_snprintf(settling, sizeof settling, "settled after %s ms",
                   digits(1e3 * s->settling_s, 3));
    }
    g_print("  %-10s rise %6s ms   overshoot %5.1f %%   %s\n", what, digits(1e3 * s->rise_s, 3),
            100.0 * s->overshoot, settling);
}

static int step_current(tuner *t, int argc, char **argv)
{
    double step_a;
    const gboolean axis_q = argc == 4 && strcmp(argv[3], "q") == 0;
    if (argc < 3 || argc > 4 || !tune_number(argv[2], &step_a) || step_a == 0.0 ||
        (argc == 4 && !axis_q && strcmp(argv[3], "d") != 0)) {
        return tune_complain("step current A [d|q], such as step current 2");
    }
    cvk_measured_step_free(&t->step[0]);
    t->measured[0] = FALSE;
    const int status = tune_check(
        t, cvk_measure_current_step(&t->session, &t->request, step_a, axis_q, &t->step[0]));
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_measured_step *s = &t->step[0];
    t->measured[0] = TRUE;
    g_print("  %c current from %s to %s A, mean of %u steps\n", axis_q ? 'q' : 'd',
            digits(s->from, 3), digits(s->to, 3), s->repeats);
    print_shape("measured", &s->shape);
    print_shape("predicted", &s->predicted_shape);
    g_print("  ripple     %s A rms\n", digits(s->shape.ripple, 2));
    return EXIT_DONE;
}

static void print_feel(const tuner *t, const cvk_measured_step *s)
{
    if (isfinite(s->stiffness_nm_rad)) {
        g_print("  at the shaft: stiffness %s N m/rad, damping %s N m s/rad\n",
                digits(s->stiffness_nm_rad, 3), digits(s->damping_nms_rad, 3));
    }
    if (isfinite(s->inertia_kg_m2)) {
        g_print("  predicted with an inertia of %s kg m2, %s\n", digits(s->inertia_kg_m2, 3),
                s->inertia_measured ? "as this step itself shows it (--card gives another)"
                                    : "from the card");
    }
    if (s->limited) {
        g_print("  the torque current was at its limit (%s A) for a while: a smaller step shows "
                "the loop itself\n",
                digits(cvk_session_value(&t->session, "speed.current_a") > 0.0
                           ? cvk_session_value(&t->session, "speed.current_a")
                           : 0.7 * cvk_session_value(&t->session, "limit.current_a"),
                       3));
    }
}

static int step_speed(tuner *t, int argc, char **argv)
{
    double step_rad_s, length_s;
    if (!(argc == 3 || (argc == 5 && strcmp(argv[3], "for") == 0))) {
        return tune_complain("step speed SPEED [for S], such as step speed 20rpm");
    }
    if (!tune_speed(t, argv[2], &step_rad_s)) {
        return EXIT_BAD_USAGE;
    }
    const double slew = cvk_session_value(&t->session, "speed.acceleration_rad_s2");
    length_s = LENGTH_S + (slew > 0.0 ? fabs(step_rad_s) / slew : 0.0);
    if (step_rad_s == 0.0 ||
        (argc == 5 && !(tune_number(argv[4], &length_s) && length_s >= 0.05 && length_s <= 60.0))) {
        return tune_complain("step speed SPEED for S: a speed that is not 0, and 0.05 .. 60 s");
    }
    cvk_measured_step_free(&t->step[1]);
    t->measured[1] = FALSE;
    const int status =
        tune_check(t, cvk_measure_speed_step(&t->session, &t->request, step_rad_s, length_s,
                                             t->inertia_kg_m2, &t->step[1]));
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_measured_step *s = &t->step[1];
    t->measured[1] = TRUE;
    g_print("  speed from %.1f to %.1f rpm, and back\n", tune_rpm(t, s->from), tune_rpm(t, s->to));
    print_shape("measured", &s->shape);
    if (s->predicted != NULL) {
        print_shape("predicted", &s->predicted_shape);
    }
    g_print("  ripple     %s rpm rms\n", digits(tune_rpm(t, s->shape.ripple), 2));
    print_feel(t, s);
    return EXIT_DONE;
}

int tune_step(tuner *t, int argc, char **argv)
{
    if (argc > 1 && strcmp(argv[1], "current") == 0) {
        return step_current(t, argc, argv);
    }
    if (argc > 1 && strcmp(argv[1], "speed") == 0) {
        return step_speed(t, argc, argv);
    }
    return tune_complain("step current A [d|q], or step speed SPEED [for S]");
}

int tune_draw(tuner *t, int argc, char **argv)
{
    cvk_complaint complaint;
    if (argc != 2) {
        return tune_complain("draw FILE.png or FILE.svg");
    }
    if (!t->measured[0] && !t->measured[1]) {
        return tune_complain("no step was measured yet: `step current` or `step speed` first");
    }
    int status = check_output(TUNE_VERB, argv[1], TRUE, NULL, 0);
    if (status == EXIT_DONE &&
        !cvk_draw_steps(t->measured[0] ? &t->step[0] : NULL, t->measured[1] ? &t->step[1] : NULL,
                        tune_rpm(t, 1.0), t->session.name, argv[1], &complaint)) {
        status = tune_complain("%s", complaint.text);
    }
    if (status == EXIT_DONE) {
        g_print("  %s\n", argv[1]);
    }
    return status;
}
