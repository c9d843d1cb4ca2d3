/* SPDX-License-Identifier: Apache-2.0
 *
 * Devices of the command line.
 */
#include "open_device.h"

#include "corvak/sim/device.h"
#include "corvak/sim/wire.h"

#include <math.h>
#include <string.h>

#define SIMULATED "sim:"
#define SEED 1u

volatile sig_atomic_t interrupted;

gboolean names_device(const char *text)
{
    return g_str_has_prefix(text, "tcp:") || g_str_has_prefix(text, "serial:") ||
           g_str_has_prefix(text, SIMULATED);
}

int open_wire(const char *verb, const char *address, gboolean paced,
              cvk_sim_controller **controller, cvk_wire *wire)
{
    char text[CVK_WIRE_TEXT];
    cvk_refusal why = {0};
    cvk_rig_config rig;
    signal(SIGPIPE, SIG_IGN); /* a link that is cut is told by what is written to it */
    if (!g_str_has_prefix(address, SIMULATED)) {
        return cvk_wire_open(wire, address, text) == CVK_OK ? EXIT_DONE
                                                            : complain_usage(verb, "%s", text);
    }
    if (*controller == NULL) {
        const int status = read_bench(verb, address + strlen(SIMULATED), NULL, NULL, &rig);
        if (status != EXIT_DONE) {
            return status;
        }
        const cvk_status opened = cvk_sim_controller_open(controller, &rig, SEED, &why);
        if (opened != CVK_OK) {
            return complain_refusal(verb, opened, &why);
        }
    }
    return cvk_sim_wire_open(wire, *controller, paced) == CVK_OK
               ? EXIT_DONE
               : complain_usage(verb, "%s: no link is free", address);
}

static int check_opened(const char *verb, const char *address, const cvk_device *device,
                        cvk_status status)
{
    return status == CVK_OK
               ? EXIT_DONE
               : complain_usage(verb, "%s: %s", address,
                                device->session.text[0] != '\0' ? device->session.text
                                                                : cvk_status_text(status));
}

static int open_bench(const char *verb, const cvk_rig_config *rig, guint64 seed, gboolean paced,
                      cvk_device *device)
{
    cvk_refusal why = {0};
    const cvk_status status = cvk_sim_device_open(device, rig, seed, paced, &why);
    return status == CVK_OK ? EXIT_DONE : complain_refusal(verb, status, &why);
}

int open_device(const char *verb, const char *address, gboolean paced, cvk_device *device)
{
    cvk_wire wire;
    *device = (cvk_device){.rows = NULL};
    if (g_str_has_prefix(address, SIMULATED)) {
        cvk_rig_config rig;
        const int status = read_bench(verb, address + strlen(SIMULATED), NULL, NULL, &rig);
        return status == EXIT_DONE ? open_bench(verb, &rig, SEED, paced, device) : status;
    }
    cvk_sim_controller *none = NULL; /* it is not simulated */
    const int status = open_wire(verb, address, paced, &none, &wire);
    return status == EXIT_DONE ? check_opened(verb, address, device, cvk_device_open(device, &wire))
                               : status;
}

void free_bench_options(bench_options *o)
{
    g_free(o->tune);
    g_strfreev(o->parameters);
    g_strfreev(o->set);
}

static int open_distant(const char *verb, const char *address, const bench_options *o,
                        motor_device *m)
{
    if (o->tune != NULL || o->set != NULL || o->parameters != NULL) {
        return complain_usage(verb, "a device has its own settings (corvak tune changes them) and "
                                    "no rig: --tune, --parameter and --set are for rigs");
    }
    const int status = open_device(verb, address, FALSE, &m->device);
    if (status == EXIT_DONE) {
        cvk_session *s = &m->device.session;
        g_strlcpy(m->name, s->name, sizeof m->name);
        m->flux_linkage_wb = cvk_session_value(s, "motor.flux_linkage_wb");
        m->bus_v = cvk_session_signal_now(s, "vdc");
    }
    return status;
}

static int open_rig(const char *verb, const char *path, const bench_options *o, motor_device *m)
{
    int status = read_bench(verb, path, o->tune, o->parameters, &m->rig);
    status = status == EXIT_DONE ? set_rig_keys(verb, o->set, &m->rig) : status;
    if (status == EXIT_DONE) {
        g_strlcpy(m->name, m->rig.name, sizeof m->name);
        m->flux_linkage_wb = m->rig.motor.flux_linkage_wb;
        m->bus_v = m->rig.supply.bus_v;
        status = reopen_bench(verb, o, m);
    }
    return status;
}

int reopen_bench(const char *verb, const bench_options *o, motor_device *m)
{
    cvk_device_close(&m->device);
    return open_bench(verb, &m->rig, (guint64)o->seed, FALSE, &m->device);
}

int open_motor(const char *verb, const char *rig_or_address, const bench_options *options,
               motor_device *m)
{
    const gboolean simulated = g_str_has_prefix(rig_or_address, SIMULATED);
    const char *rig = simulated ? rig_or_address + strlen(SIMULATED) : rig_or_address;
    m->distant = !simulated && names_device(rig_or_address);
    const int status = m->distant ? open_distant(verb, rig_or_address, options, m)
                                  : open_rig(verb, rig, options, m);
    if (status != EXIT_DONE) {
        return status;
    }
    m->pole_pairs = cvk_session_value(&m->device.session, "motor.pole_pairs");
    m->current_a = cvk_session_value(&m->device.session, "limit.current_a");
    m->flux_linkage_wb = fmax(m->flux_linkage_wb, 1e-6);
    return m->pole_pairs > 0.0
               ? EXIT_DONE
               : complain_usage(verb, "the controller does not know motor.pole_pairs: set it "
                                      "(corvak tune)");
}

cvk_run_setting run_setting_of(const motor_device *m, const char *scenario, const bench_options *o)
{
    const cvk_session *s = &m->device.session;
    const gboolean switched = m->rig.inverter.fidelity == CVK_FIDELITY_SWITCHED;
    return (cvk_run_setting){.name = m->name,
                             .scenario = scenario,
                             .distant = m->distant,
                             .seed = o->seed,
                             .inverter = switched ? "switched" : "averaged",
                             .pole_pairs = m->pole_pairs,
                             .current_limit_a = m->current_a,
                             .flux_linkage_wb = m->flux_linkage_wb,
                             .least_speed_rad_s = cvk_session_value(s, "start.speed_rad_s"),
                             .by_observer =
                                 cvk_session_value(s, "angle.source") == (double)CVK_BY_OBSERVER};
}

int check_device(const char *verb, const cvk_device *device, cvk_status status)
{
    if (status == CVK_OK) {
        return EXIT_DONE;
    }
    return complain_usage(verb, "%s",
                          device->session.text[0] != '\0' ? device->session.text
                                                          : cvk_status_text(status));
}

static void on_interrupt(int number)
{
    (void)number;
    interrupted = 1;
}

void catch_interrupt(void)
{
    struct sigaction action = {.sa_handler = on_interrupt};
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
}
