/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated controller in real time, on TCP or a pseudo-terminal. Whatever ends it, the motor
 * is stopped first.
 */
#include "corvak/sim/server.h"

#include "corvak/host/secret.h"
#include "corvak/link/hmac.h"

#include <errno.h>
#include <fcntl.h>
#include <gio/gio.h>
#include <glib-unix.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

#define LONGEST_CATCH_UP_S 0.05 /* more than that behind: the time is let go */
#define WINDOW_S 4.0
#define LATE_SHARE 0.3
#define STOPPING_S 5.0 /* a controlled stop may take so long */
#define SILENT_S 10.0  /* a connection that has not said who it is */
#define FULL "all 8 places are taken: one must leave first"
enum { CHUNK = 16384 };

typedef struct server server;

/* Who may in. */
typedef struct door {
    guint8 secret[256];
    gsize secret_bytes; /* 0: none */
    cvk_link_lock lock;
} door;

typedef struct client {
    server *server;
    GSocketConnection *connection; /* null: the pseudo-terminal */
    int fd, link;
    guint source;
    gint64 since_us;              /* connected */
    guint8 in[CHUNK], out[CHUNK]; /* bytes that could not go on yet */
    gsize in_from, in_to, out_from, out_to;
} client;

struct server {
    const cvk_sim_server_config *config;
    char *text; /* what went wrong */
    cvk_sim_controller *controller;
    GMainLoop *loop;
    GList *clients;
    gint64 begun_us;
    double begun_s;                     /* rig time then */
    double late_s;                      /* let go because this machine was too slow */
    double late_window_s, window_end_s; /* of it, since the window began */
    gboolean stopping, switched_off, lateness_told;
    double stop_by_s;
    door door;
    GSocketService *service; /* null: the pseudo-terminal */
    cvk_owner owner;
    gint32 fault;
};

static void tell(const server *s, const char *format, ...) G_GNUC_PRINTF(2, 3);

static void tell(const server *s, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    if (s->config->tell != NULL) {
        s->config->tell(s->config->context, cvk_sim_controller_time_s(s->controller), text);
    }
    g_free(text);
}

static cvk_status complain(const server *s, const char *format, ...) G_GNUC_PRINTF(2, 3);

static cvk_status complain(const server *s, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_vsnprintf(s->text, CVK_SIM_SERVER_TEXT, format, arguments);
    va_end(arguments);
    return CVK_BAD_FORMAT;
}

/* ---- clients -------------------------------------------------------------------------------- */

static int number_of(const client *c)
{
    return c->link + 1;
}

static void end_client(client *c)
{
    tell(c->server, "link %d left", number_of(c));
    cvk_sim_controller_disconnect(c->server->controller, c->link);
    if (c->source != 0) {
        g_source_remove(c->source);
    }
    if (c->connection != NULL) {
        g_object_unref(c->connection);
    } else {
        close(c->fd);
    }
    g_free(c);
}

static void drop(client *c)
{
    c->server->clients = g_list_remove(c->server->clients, c);
    end_client(c);
}

static void drop_all(server *s)
{
    GList *all = g_steal_pointer(&s->clients);
    for (GList *l = all; l != NULL; l = l->next) {
        end_client(l->data);
    }
    g_list_free(all);
}

/* What the link has for it. False when it is gone. */
static gboolean send_out(client *c)
{
    for (;;) {
        if (c->out_from == c->out_to) {
            c->out_from = 0;
            c->out_to =
                cvk_sim_controller_get(c->server->controller, c->link, c->out, sizeof c->out);
        }
        if (c->out_to == 0) {
            return TRUE;
        }
        const gssize sent = write(c->fd, c->out + c->out_from, c->out_to - c->out_from);
        if (sent < 0) {
            return errno == EAGAIN || errno == EINTR;
        }
        c->out_from += (gsize)sent;
    }
}

static void take_in(client *c)
{
    c->in_from += cvk_sim_controller_put(c->server->controller, c->link, c->in + c->in_from,
                                         c->in_to - c->in_from);
}

static gboolean on_bytes(gint fd, GIOCondition condition, gpointer context)
{
    client *c = context;
    (void)condition;
    const gssize got = read(fd, c->in, sizeof c->in);
    if (got == 0 || (got < 0 && errno != EAGAIN && errno != EINTR)) {
        drop(c);
        return G_SOURCE_CONTINUE; /* the source is removed already */
    }
    c->in_from = 0;
    c->in_to = got > 0 ? (gsize)got : 0;
    take_in(c);
    if (!send_out(c)) {
        drop(c);
        return G_SOURCE_CONTINUE;
    }
    if (c->in_from < c->in_to) { /* the link takes no more now: on_time() goes on with it */
        c->source = 0;
        return G_SOURCE_REMOVE;
    }
    return G_SOURCE_CONTINUE;
}

static client *add_client(server *s, int fd, GSocketConnection *connection)
{
    const int link = s->stopping ? -1 : cvk_sim_controller_connect(s->controller, false);
    if (link < 0) {
        guint8 wire[CVK_FRAME_BYTES_MAX];
        const size_t count =
            cvk_link_write_dismissal(s->stopping ? "it is being stopped" : FULL, wire, sizeof wire);
        const gssize sent = write(fd, wire, count); /* one that cannot be told has gone already */
        tell(s, sent == (gssize)count ? "one more would be too many: refused"
                                      : "one more has gone already");
        return NULL;
    }
    client *c = g_new0(client, 1);
    c->server = s;
    c->connection = connection;
    c->fd = fd;
    c->link = link;
    c->since_us = g_get_monotonic_time();
    c->source = g_unix_fd_add(fd, G_IO_IN | G_IO_HUP, on_bytes, c);
    s->clients = g_list_append(s->clients, c);
    return c;
}

static gboolean on_connection(GSocketService *service, GSocketConnection *connection,
                              GObject *source, gpointer context)
{
    (void)service;
    (void)source;
    GSocket *socket = g_socket_connection_get_socket(connection);
    g_socket_set_option(socket, IPPROTO_TCP, TCP_NODELAY, 1, NULL);
    const int fd = g_socket_get_fd(socket);
    fcntl(fd, F_SETFL, fcntl(fd, F_GETFL) | O_NONBLOCK);
    client *c = add_client(context, fd, connection);
    if (c != NULL) {
        g_object_ref(connection);
        tell(c->server, "link %d connected", number_of(c));
    }
    return TRUE;
}

/* ---- time ----------------------------------------------------------------------------------- */

static void tell_changes(server *s)
{
    const cvk_moment *now = cvk_sim_controller_now(s->controller);
    const cvk_owner owner = cvk_drive_owner(&cvk_sim_controller_inside(s->controller)->drive);
    if (owner != s->owner) {
        s->owner = owner;
        if (owner == CVK_NOBODY) {
            tell(s, now->bridge_on != 0 ? "nobody commands: controlled stop" : "nobody commands");
        } else {
            tell(s, "link %d commands", owner);
        }
    }
    if (now->fault != s->fault) {
        s->fault = now->fault;
        tell(s, "%s", cvk_fault_text((cvk_fault)now->fault));
    }
}

/* Once, when much of some seconds had to be let go. */
static void tell_lateness(server *s, double real_s)
{
    if (real_s > s->window_end_s) {
        if (s->late_window_s > LATE_SHARE * WINDOW_S && !s->lateness_told) {
            s->lateness_told = TRUE;
            tell(s, "this machine is too slow for real time: the motor runs in slow motion");
        }
        s->late_window_s = 0.0;
        s->window_end_s = real_s + WINDOW_S;
    }
}

/* It took a place and has not said who it is, or has not proved the secret. */
static void see_off_the_silent(client *c)
{
    const double silent_s = 1e-6 * (double)(g_get_monotonic_time() - c->since_us);
    cvk_sim_controller *controller = c->server->controller;
    if (c->connection != NULL && silent_s > SILENT_S &&
        !cvk_sim_controller_is_there(controller, c->link) &&
        !cvk_sim_controller_has_ended(controller, c->link)) {
        cvk_sim_controller_dismiss(controller, c->link, "it was not said who is there");
    }
}

/* The process ends when the bridge is off; one that does not slow down is switched off, and said.
 */
static void finish_stop(server *s, double until_s)
{
    if (cvk_sim_controller_now(s->controller)->bridge_on == 0) {
        tell(s,
             s->switched_off ? "the motor did not stop within %.0f s: switched off, it runs out"
                             : "the motor is off",
             STOPPING_S);
        g_main_loop_quit(s->loop);
    } else if (until_s > s->stop_by_s) {
        s->switched_off = TRUE;
        cvk_sim_controller_stop(s->controller, TRUE);
    }
}

static gboolean on_time(gpointer context)
{
    server *s = context;
    const double now_s = cvk_sim_controller_time_s(s->controller);
    const double real_s = 1e-6 * (double)(g_get_monotonic_time() - s->begun_us);
    double until_s = s->begun_s + real_s - s->late_s;
    if (until_s > now_s + LONGEST_CATCH_UP_S) {
        s->late_s += until_s - now_s - LONGEST_CATCH_UP_S;
        s->late_window_s += until_s - now_s - LONGEST_CATCH_UP_S;
        until_s = now_s + LONGEST_CATCH_UP_S;
    }
    tell_lateness(s, real_s);
    cvk_sim_controller_run(s->controller, until_s);
    tell_changes(s);
    for (GList *l = s->clients; l != NULL;) {
        client *c = l->data;
        l = l->next;
        if (c->source == 0) {
            take_in(c);
            c->source =
                c->in_from == c->in_to ? g_unix_fd_add(c->fd, G_IO_IN | G_IO_HUP, on_bytes, c) : 0;
        }
        see_off_the_silent(c);
        if (!send_out(c) ||
            (c->connection != NULL && cvk_sim_controller_has_ended(s->controller, c->link))) {
            drop(c);
        }
    }
    if (s->stopping) {
        finish_stop(s, until_s);
    }
    return G_SOURCE_CONTINUE;
}

/* Ctrl-C: the motor is stopped, whoever commands, and everybody sent away; then the process ends.
 */
static gboolean on_signal(gpointer context)
{
    server *s = context;
    if (s->stopping) { /* a second time: at once */
        s->stop_by_s = 0.0;
        return G_SOURCE_CONTINUE;
    }
    tell(s, "stopping the motor");
    cvk_sim_controller_stop(s->controller, FALSE);
    drop_all(s);
    s->stopping = TRUE;
    s->stop_by_s = cvk_sim_controller_time_s(s->controller) + STOPPING_S;
    return G_SOURCE_CONTINUE;
}

/* ---- the door ------------------------------------------------------------------------------- */

static void make_challenge(void *context, uint8_t bytes[CVK_LINK_CHALLENGE_BYTES])
{
    (void)context;
    if (getentropy(bytes, CVK_LINK_CHALLENGE_BYTES) != 0) {
        g_error("this machine gives no random bytes: %s", strerror(errno));
    }
}

static bool proof_fits(void *context, const uint8_t challenge[CVK_LINK_CHALLENGE_BYTES],
                       const uint8_t proof[CVK_LINK_PROOF_BYTES])
{
    const door *d = context;
    guint8 wanted[CVK_LINK_PROOF_BYTES];
    cvk_prove_secret(d->secret, d->secret_bytes, challenge, wanted);
    return cvk_hmac_is(wanted, proof);
}

static cvk_status read_secret(server *s, const char *path)
{
    door *d = &s->door;
    char text[256];
    if (cvk_secret_file_read(path, d->secret, sizeof d->secret, &d->secret_bytes, text,
                             sizeof text) != CVK_OK) {
        return complain(s, "--secret %s", text);
    }
    d->lock = (cvk_link_lock){d, make_challenge, proof_fits};
    cvk_sim_controller_lock(s->controller, &d->lock);
    return CVK_OK;
}

/* Beyond this machine nobody gets in without a word. */
static cvk_status check_door(const server *s, GInetAddress *address, const char *listen)
{
    const door *d = &s->door;
    if (g_inet_address_get_is_loopback(address) || d->secret_bytes > 0) {
        return CVK_OK;
    }
    if (s->config->open) {
        tell(s, "warning: whoever reaches %s may command the motor", listen);
        return CVK_OK;
    }
    return complain(
        s,
        "--listen %s: beyond this machine whoever comes could command the motor; give "
        "--secret FILE (the same file to hosts: tcp:HOST:PORT?secret=FILE), or --open if "
        "that is meant",
        listen);
}

/* ---- where it listens ----------------------------------------------------------------------- */

static cvk_status listen_tcp(server *s, const char *listen)
{
    GError *error = NULL;
    const char *host_and_port = g_str_has_prefix(listen, "tcp:") ? listen + 4 : NULL;
    const char *colon = host_and_port != NULL ? strrchr(host_and_port, ':') : NULL;
    char *host = colon != NULL ? g_strndup(host_and_port, (gsize)(colon - host_and_port)) : NULL;
    GInetAddress *inet = host != NULL ? g_inet_address_new_from_string(host) : NULL;
    guint64 port = 0;
    if (inet == NULL || !g_ascii_string_to_unsigned(colon + 1, 10, 0, 65535, &port, NULL)) {
        g_free(host);
        g_clear_object(&inet);
        return complain(s,
                        "--listen %s: give pty, or an IP address and a port (0: any free "
                        "one), such as tcp:127.0.0.1:4242",
                        listen);
    }
    if (check_door(s, inet, listen) != CVK_OK) {
        g_free(host);
        g_object_unref(inet);
        return CVK_BAD_FORMAT;
    }
    GSocketAddress *address = g_inet_socket_address_new(inet, (guint16)port), *effective = NULL;
    s->service = g_socket_service_new();
    const gboolean fine =
        g_socket_listener_add_address(G_SOCKET_LISTENER(s->service), address, G_SOCKET_TYPE_STREAM,
                                      G_SOCKET_PROTOCOL_TCP, NULL, &effective, &error);
    cvk_status status = CVK_OK;
    if (fine) {
        g_signal_connect(s->service, "incoming", G_CALLBACK(on_connection), s);
        char *where = g_strdup_printf(
            "tcp:%s:%u", host, g_inet_socket_address_get_port(G_INET_SOCKET_ADDRESS(effective)));
        s->config->address(s->config->context, where);
        g_free(where);
        g_object_unref(effective);
    } else {
        status = complain(s, "cannot listen on %s: %s; choose another port, or 0 for any", listen,
                          error->message);
        g_error_free(error);
    }
    g_object_unref(address);
    g_object_unref(inet);
    g_free(host);
    return status;
}

/* The other side is kept open by us too, so that a host may come and go. */
static cvk_status listen_pty(server *s, int *kept_open)
{
    const int fd = posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK);
    const char *name = fd >= 0 && grantpt(fd) == 0 && unlockpt(fd) == 0 ? ptsname(fd) : NULL;
    *kept_open = name != NULL ? open(name, O_RDWR | O_NOCTTY) : -1;
    struct termios raw;
    if (*kept_open < 0 || tcgetattr(*kept_open, &raw) != 0) {
        return complain(s, "there is no pseudo-terminal to be had: %s", strerror(errno));
    }
    cfmakeraw(&raw);
    tcsetattr(*kept_open, TCSANOW, &raw);
    if (add_client(s, fd, NULL) == NULL) {
        return CVK_BUSY;
    }
    char *where = g_strconcat("serial:", name, NULL);
    s->config->address(s->config->context, where);
    g_free(where);
    return CVK_OK;
}

/* ---- serving -------------------------------------------------------------------------------- */

static void run(server *s)
{
    s->loop = g_main_loop_new(NULL, FALSE);
    s->begun_us = g_get_monotonic_time();
    s->begun_s = cvk_sim_controller_time_s(s->controller);
    const guint sources[] = {g_timeout_add(1, on_time, s), g_unix_signal_add(SIGINT, on_signal, s),
                             g_unix_signal_add(SIGTERM, on_signal, s),
                             g_unix_signal_add(SIGHUP, on_signal, s)};
    g_main_loop_run(s->loop);
    for (gsize n = 0; n < G_N_ELEMENTS(sources); n++) {
        g_source_remove(sources[n]);
    }
    drop_all(s);
    g_main_loop_unref(s->loop);
}

cvk_status cvk_sim_server_run(cvk_sim_controller *controller, const cvk_sim_server_config *config,
                              char *text)
{
    server s = {.config = config, .text = text, .controller = controller};
    int kept_open = -1;
    text[0] = '\0';
    cvk_status status = config->secret != NULL ? read_secret(&s, config->secret) : CVK_OK;
    if (status == CVK_OK) {
        status = strcmp(config->listen, "pty") == 0 ? listen_pty(&s, &kept_open)
                                                    : listen_tcp(&s, config->listen);
    }
    if (status == CVK_OK) {
        signal(SIGPIPE, SIG_IGN);
        run(&s);
    }
    if (s.service != NULL) {
        g_socket_service_stop(s.service);
        g_object_unref(s.service);
    }
    if (kept_open >= 0) {
        close(kept_open);
    }
    return status;
}
