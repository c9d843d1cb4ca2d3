/* SPDX-License-Identifier: Apache-2.0
 *
 * Devices of the command line.
 */
#include "open_device.h"

#include "corvak/sim/wire.h"


#define SEED 1u
#define LEASE_S 0.5

volatile sig_atomic_t interrupted;

gboolean names_device(const char *text)
{
    return g_str_has_prefix(text, "tcp:") || g_str_has_prefix(text, "serial:") ||
           g_str_has_prefix(text, "sim:");
}

int open_wire(const char *verb, const char *address, gboolean paced,
              cvk_sim_controller **controller, cvk_wire *wire)
{
    char text[CVK_WIRE_TEXT];
    cvk_refusal why = {0};
    cvk_rig_config rig;
    signal(SIGPIPE, SIG_IGN); /* a link that is cut is told by what is written to it */
    if (!g_str_has_prefix(address, "sim:")) {
        return cvk_wire_open(wire, address, text) == CVK_OK ? EXIT_DONE
                                                            : complain_usage(verb, "%s", text);
    }
    if (*controller == NULL) {
        const int status = read_bench(verb, address + 4, NULL, NULL, &rig);
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

int open_device(const char *verb, const char *address, gboolean paced, device_session *device)
{
    cvk_wire wire;
    const int status = open_wire(verb, address, paced, &device->controller, &wire);
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_status opened = cvk_session_open(&device->session, &wire);
    device->open = TRUE;
    if (opened != CVK_OK) {
        complain_usage(verb, "%s: %s", address,
                       device->session.text[0] != '\0' ? device->session.text
                                                       : cvk_status_text(opened));
        return EXIT_BAD_USAGE;
    }
    return EXIT_DONE;
}

int open_motor(const char *verb, const char *address, device_session *session, cvk_device *device)
{
    int status = open_device(verb, address, FALSE, session);
    if (status == EXIT_DONE) {
        status = check_device(verb, session, cvk_session_claim(&session->session, LEASE_S));
    }
    if (status == EXIT_DONE) {
        status = check_device(verb, session, cvk_linked_device_open(device, &session->session));
    }
    if (status == EXIT_DONE && !(device->pole_pairs > 0.0)) {
        return complain_usage(verb, "the controller does not know motor.pole_pairs: set it "
                                    "(corvak tune)");
    }
    return status;
}

void close_device(device_session *device)
{
    if (device->open) {
        cvk_session_close(&device->session);
    }
    cvk_sim_controller_close(device->controller);
}

int check_device(const char *verb, const device_session *device, cvk_status status)
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
