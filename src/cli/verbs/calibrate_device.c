/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak calibrate DEVICE: what a controller finds of its sensor by itself, told and kept.
 */
#include "base/calibration.h"

#include "corvak/core/units.h"
#include "base/open_device.h"

#include "corvak/files/tune_yaml.h"
#include "corvak/host/self_calibration.h"

#include <math.h>

#define VERB "calibrate"
static int write_tune(const char *path, const char *base, const cvk_self_calibration *f,
                      const char *name)
{
    cvk_complaint complaint;
    cvk_tune tune;
    char from[CVK_TUNE_TEXT];
    cvk_tune_start(&tune);
    if (base != NULL && cvk_tune_file_read(&tune, base, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    g_snprintf(from, sizeof from, "calibrate on %s: +- %.2g", name, f->half_rad);
    cvk_self_calibration_item set[CVK_SELF_CALIBRATION_ITEMS];
    const unsigned count = cvk_self_calibration_items(f, set);
    for (unsigned n = 0; n < count; n++) {
        const cvk_parameter *row = cvk_parameter_named(set[n].key);
        if (cvk_parameter_set(&tune.settings, row, set[n].value, NULL) == CVK_OK) {
            cvk_tune_give(&tune, row, from);
        }
    }
    return cvk_tune_file_write(&tune, path, &complaint) == CVK_OK ? EXIT_DONE
                                                                  : complain_file(VERB, &complaint);
}

static void tell_phase(void *context, const char *text)
{
    (void)context;
    g_printerr("%s\n", text);
}

static bool is_interrupted(void *context)
{
    (void)context;
    return interrupted != 0;
}

static int run(cvk_device *d, const device_calibration *how)
{
    const cvk_self_calibration_calls calls = {NULL, tell_phase, is_interrupted};
    cvk_session *s = &d->session;
    cvk_self_calibration f;
    int status = check_device(VERB, d, cvk_self_calibrate(s, &calls, &f));
    if (status != EXIT_DONE) {
        return status;
    }
    if (f.end != CVK_SELF_CALIBRATED) {
        if (how->json) {
            show_document(cvk_self_calibration_document(&f, s->name), TRUE);
        } else {
            g_printerr("corvak calibrate: %s%s\n",
                       f.end == CVK_SELF_CALIBRATION_FAULT ? "the drive stopped: " : "", f.why);
        }
        return EXIT_ANSWER_NO;
    }
    status = check_device(VERB, d, cvk_self_calibration_adopt(s, &f));
    if (status != EXIT_DONE) {
        return status;
    }
    show_document(cvk_self_calibration_document(&f, s->name), how->json);
    return how->output != NULL ? write_tune(how->output, how->tune, &f, s->name) : EXIT_DONE;
}

int calibrate_device(const char *address, const device_calibration *how)
{
    cvk_device d;
    catch_interrupt();
    int status = open_device(VERB, address, FALSE, &d);
    if (status == EXIT_DONE) {
        status = run(&d, how);
    }
    cvk_device_close(&d);
    return status;
}
