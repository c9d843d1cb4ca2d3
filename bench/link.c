/* SPDX-License-Identifier: Apache-2.0
 *
 * The link between two processes of this machine: the round trip of a read over TCP beside that of
 * a bare byte, and what a stream of 8 signals at the control rate costs the host. Usage: bench_link
 * [SECONDS of the stream]   (60)
 */
#include "corvak/host/session.h"

#include <gio/gio.h>
#include <math.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <unistd.h>

enum { READS = 4000 };

static double now_s(void)
{
    return 1e-6 * (double)g_get_monotonic_time();
}

static int by_size(const void *a, const void *b)
{
    const double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

static void print_times(const char *what, double *times_s)
{
    qsort(times_s, READS, sizeof times_s[0], by_size);
    printf("%-34s median %.3f ms, 99 %% %.3f ms, longest %.3f ms\n", what, 1e3 * times_s[READS / 2],
           1e3 * times_s[READS * 99 / 100], 1e3 * times_s[READS - 1]);
}

/* ---- the floor: one byte there and back ------------------------------------------------------ */

static gpointer echo(gpointer data)
{
    GSocketConnection *c = g_socket_listener_accept(data, NULL, NULL, NULL);
    GSocket *socket = g_socket_connection_get_socket(c);
    char byte;
    g_socket_set_option(socket, 6, 1, 1, NULL);
    while (g_socket_receive(socket, &byte, 1, NULL, NULL) == 1 &&
           g_socket_send(socket, &byte, 1, NULL, NULL) == 1) {
    }
    g_object_unref(c);
    return NULL;
}

static void measure_floor(void)
{
    static double times_s[READS];
    GSocketListener *listener = g_socket_listener_new();
    const guint16 port = g_socket_listener_add_any_inet_port(listener, NULL, NULL);
    GThread *thread = g_thread_new("echo", echo, listener);
    GSocketClient *client = g_socket_client_new();
    GSocketConnection *c = g_socket_client_connect_to_host(client, "127.0.0.1", port, NULL, NULL);
    GSocket *socket = g_socket_connection_get_socket(c);
    g_socket_set_option(socket, 6, 1, 1, NULL);
    for (int n = 0; n < READS; n++) {
        char byte = 'x';
        const double before_s = now_s();
        g_socket_send(socket, &byte, 1, NULL, NULL);
        g_socket_receive(socket, &byte, 1, NULL, NULL);
        times_s[n] = now_s() - before_s;
    }
    g_object_unref(c);
    g_object_unref(client);
    g_thread_join(thread);
    g_object_unref(listener);
    print_times("a bare byte, two threads", times_s);
}

/* ---- reads ----------------------------------------------------------------------------------- */

static bool measure_reads(cvk_session *s)
{
    static double times_s[READS], look_s[READS];
    const unsigned signal = 0;
    float value;
    for (int n = 0; n < READS; n++) {
        const double before_s = now_s();
        if (cvk_session_read_values(s) != CVK_OK) {
            return false;
        }
        times_s[n] = now_s() - before_s;
    }
    for (int n = 0; n < READS; n++) {
        const double before_s = now_s();
        if (cvk_session_look(s, &signal, 1, &value) != CVK_OK) {
            return false;
        }
        look_s[n] = now_s() - before_s;
    }
    print_times("all parameters (bar: 2 ms)", times_s);
    print_times("a signal, at the next control call", look_s);
    return true;
}

/* ---- a stream -------------------------------------------------------------------------------- */

typedef struct seen {
    uint64_t rows, gaps;
    uint32_t next, lost;
    double sum;
} seen;

static void take(void *context, const cvk_session_samples *s)
{
    seen *c = context;
    c->gaps += c->rows > 0 && s->tick != c->next ? 1u : 0u;
    c->rows += s->rows;
    c->next = s->tick + s->rows;
    c->lost = s->lost;
    for (unsigned n = 0; n < s->rows * s->columns; n++) {
        c->sum += (double)s->value[n];
    }
}

static double cpu_s(void)
{
    struct rusage usage;
    getrusage(RUSAGE_SELF, &usage);
    return (double)(usage.ru_utime.tv_sec + usage.ru_stime.tv_sec) +
           1e-6 * (double)(usage.ru_utime.tv_usec + usage.ru_stime.tv_usec);
}

static bool measure_stream(cvk_session *s, double length_s)
{
    static const char *const names[] = {"ia",     "ib",     "ic",     "vdc",
                                        "duty_a", "duty_b", "duty_c", "iq"};
    unsigned place[8];
    seen c = {0};
    for (int n = 0; n < 8; n++) {
        place[n] = (unsigned)cvk_session_signal_named(s, names[n]);
    }
    s->calls = (cvk_session_calls){.context = &c, .samples = take};
    if (cvk_session_stream(s, place, 8, 1) != CVK_OK) {
        return false;
    }
    const double begun_s = now_s(), used_s = cpu_s();
    if (cvk_session_wait(s, length_s) != CVK_OK) {
        return false;
    }
    const double passed_s = now_s() - begun_s, share = (cpu_s() - used_s) / passed_s;
    printf("8 signals for %.1f s: %.0f rows a second (control rate %.0f), %lu lost, %lu gaps; host "
           "%.1f %% of a core (bar: 30 %%)\n",
           passed_s, (double)c.rows / passed_s, 1.0 / (double)s->period_s, (unsigned long)c.lost,
           (unsigned long)c.gaps, 100.0 * share);
    return c.lost == 0 && c.gaps == 0;
}

int main(int argc, char **argv)
{
    const double length_s = argc > 1 ? g_ascii_strtod(argv[1], NULL) : 60.0;
    GSubprocess *server = g_subprocess_new(G_SUBPROCESS_FLAGS_STDOUT_PIPE, NULL, CORVAK_COMMAND,
                                           "serve", CORVAK_DATA "/wheel.rig.yaml", "--quiet", NULL);
    if (server == NULL) {
        return 1;
    }
    GDataInputStream *lines = g_data_input_stream_new(g_subprocess_get_stdout_pipe(server));
    char *address = g_data_input_stream_read_line(lines, NULL, NULL, NULL);
    char text[CVK_WIRE_TEXT];
    cvk_wire wire;
    cvk_session session = {.inside = NULL};
    bool fine = address != NULL && cvk_wire_open(&wire, address, text) == CVK_OK &&
                cvk_session_open(&session, &wire) == CVK_OK;
    if (fine) {
        measure_floor();
        fine = measure_reads(&session) && measure_stream(&session, length_s);
    }
    session.calls.samples = NULL;
    cvk_session_close(&session);
    g_subprocess_send_signal(server, SIGINT);
    g_subprocess_wait(server, NULL, NULL);
    g_object_unref(server);
    g_free(address);
    return fine ? 0 : 1;
}
