/* SPDX-License-Identifier: Apache-2.0
 *
 * Wires by address: TCP by GIO, serial lines by libserialport.
 */
#include "corvak/host/wire.h"

#include <errno.h>
#include <fcntl.h>
#include <gio/gio.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <libserialport.h>
#include <math.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <termios.h>
#include <unistd.h>

#define CONNECT_S 3
#define WRITE_MS 1000
#define BAUD 115200

static double monotonic_s(void *context)
{
    (void)context;
    return 1e-6 * (double)g_get_monotonic_time();
}

static cvk_status complain(char *text, cvk_status status, const char *format, const char *address,
                           const char *what)
{
    snprintf(text, CVK_WIRE_TEXT, format, address, what);
    return status;
}

/* ---- TCP ------------------------------------------------------------------------------------ */

typedef struct tcp {
    GSocketConnection *connection;
    GSocket *socket;
} tcp;

static int tcp_read(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    tcp *t = context;
    if (!g_socket_condition_timed_wait(t->socket, G_IO_IN, (gint64)(1e6 * timeout_s), NULL, NULL)) {
        return 0;
    }
    GError *error = NULL;
    const gssize got = g_socket_receive(t->socket, (char *)bytes, room, NULL, &error);
    const gboolean later = g_error_matches(error, G_IO_ERROR, G_IO_ERROR_WOULD_BLOCK);
    g_clear_error(&error);
    return got > 0 ? (int)got : (later ? 0 : -1);
}

static bool tcp_write(void *context, const uint8_t *bytes, size_t count)
{
    tcp *t = context;
    size_t sent = 0;
    while (sent < count) {
        GError *error = NULL;
        const gssize now =
            g_socket_send(t->socket, (const char *)bytes + sent, count - sent, NULL, &error);
        const gboolean later = g_error_matches(error, G_IO_ERROR, G_IO_ERROR_WOULD_BLOCK);
        g_clear_error(&error);
        sent += now > 0 ? (size_t)now : 0;
        if (now < 0 && !(later && g_socket_condition_timed_wait(t->socket, G_IO_OUT,
                                                                1000 * WRITE_MS, NULL, NULL))) {
            return false;
        }
    }
    return true;
}

static int tcp_descriptor(void *context)
{
    return g_socket_get_fd(((tcp *)context)->socket);
}

static void tcp_close(void *context)
{
    tcp *t = context;
    g_io_stream_close(G_IO_STREAM(t->connection), NULL, NULL);
    g_object_unref(t->connection);
    free(t);
}

/* What stands behind the address. */
typedef struct extras {
    int baud;
    char secret[256];
} extras;

/* `?baud=RATE&secret=FILE`, in any order. */
static bool read_extras(const char *question, extras *out)
{
    *out = (extras){.baud = BAUD};
    for (const char *at = question; at != NULL && *at != '\0';) {
        const char *end = strchr(++at, '&'); /* beyond ? or & */
        const int length = end != NULL ? (int)(end - at) : (int)strlen(at);
        char rest = '\0';
        char item[sizeof out->secret];
        snprintf(item, sizeof item, "%.*s", length, at);
        if (strncmp(item, "secret=", 7) == 0 && item[7] != '\0') {
            snprintf(out->secret, sizeof out->secret, "%s", item + 7);
        } else if (sscanf(item, "baud=%d%c", &out->baud, &rest) != 1 || out->baud < 1) {
            return false;
        }
        at = end;
    }
    return true;
}

static cvk_status open_tcp(cvk_wire *wire, const char *address, const char *host, char *text)
{
    const char *colon = strrchr(host, ':');
    if (colon == NULL || colon == host || colon[1] == '\0' ||
        strspn(colon + 1, "0123456789") != strlen(colon + 1) || atoi(colon + 1) < 1 ||
        atoi(colon + 1) > 65535) {
        return complain(text, CVK_BAD_FORMAT, "%s: give host and port (1 .. 65535)%s", address,
                        ", such as tcp:127.0.0.1:4242");
    }
    GError *error = NULL;
    GSocketClient *client = g_socket_client_new();
    g_socket_client_set_timeout(client, CONNECT_S);
    GSocketConnection *connection = g_socket_client_connect_to_host(client, host, 1, NULL, &error);
    g_object_unref(client);
    if (connection == NULL) {
        complain(text, CVK_NO_ANSWER, "%s: nobody is there (%s); is `corvak serve` running?",
                 address, error->message);
        g_error_free(error);
        return CVK_NO_ANSWER;
    }
    tcp *t = calloc(1, sizeof *t);
    if (t == NULL) {
        g_object_unref(connection);
        return CVK_NO_MEMORY;
    }
    *t = (tcp){connection, g_socket_connection_get_socket(connection)};
    g_socket_set_timeout(t->socket, 0);
    g_socket_set_blocking(t->socket, FALSE);
    g_socket_set_option(t->socket, IPPROTO_TCP, TCP_NODELAY, 1, NULL);
    *wire = (cvk_wire){.read = tcp_read,
                       .write = tcp_write,
                       .now_s = monotonic_s,
                       .descriptor = tcp_descriptor,
                       .close = tcp_close};
    wire->context = t;
    return CVK_OK;
}

/* ---- serial lines --------------------------------------------------------------------------- */

static int serial_read(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    const unsigned ms = timeout_s > 0.0 ? (unsigned)(1e3 * timeout_s) + 1u : 0u;
    struct sp_port *port = context;
    const int got = ms > 0 ? (int)sp_blocking_read_next(port, bytes, room, ms)
                           : (int)sp_nonblocking_read(port, bytes, room);
    return got >= 0 ? got : -1;
}

static bool serial_write(void *context, const uint8_t *bytes, size_t count)
{
    return (int)sp_blocking_write(context, bytes, count, WRITE_MS) == (int)count;
}

static int serial_descriptor(void *context)
{
    int descriptor = -1;
    return sp_get_port_handle(context, &descriptor) == SP_OK ? descriptor : -1;
}

static void serial_close(void *context)
{
    sp_close(context);
    sp_free_port(context);
}

/* A pseudo-terminal is no line, and libserialport does not know it: it is opened as a file. */
static int pseudo_read(void *context, uint8_t *bytes, size_t room, double timeout_s)
{
    struct pollfd in = {.fd = *(int *)context, .events = POLLIN};
    if (poll(&in, 1, (int)ceil(1e3 * timeout_s)) <= 0) {
        return 0;
    }
    const ssize_t got = read(in.fd, bytes, room);
    return got > 0 ? (int)got : (got < 0 && (errno == EAGAIN || errno == EINTR) ? 0 : -1);
}

static bool pseudo_write(void *context, const uint8_t *bytes, size_t count)
{
    struct pollfd out = {.fd = *(int *)context, .events = POLLOUT};
    for (size_t sent = 0; sent < count;) {
        const ssize_t now = write(out.fd, bytes + sent, count - sent);
        sent += now > 0 ? (size_t)now : 0;
        if (now < 0 && (errno != EAGAIN || poll(&out, 1, WRITE_MS) <= 0)) {
            return false;
        }
    }
    return true;
}

static int pseudo_descriptor(void *context)
{
    return *(int *)context;
}

static void pseudo_close(void *context)
{
    close(*(int *)context);
    free(context);
}

/* Two hosts on one line would be taken for one. */
static bool is_mine(int fd)
{
    return flock(fd, LOCK_EX | LOCK_NB) == 0 || errno != EWOULDBLOCK;
}

static cvk_status taken(char *text, const char *address)
{
    return complain(text, CVK_BUSY, "%s: another host has this line%s", address, ": end it first");
}

static cvk_status open_pseudo(cvk_wire *wire, const char *address, const char *path, char *text)
{
    struct termios raw;
    int *fd = malloc(sizeof *fd);
    if (fd == NULL) {
        return CVK_NO_MEMORY;
    }
    *fd = open(path, O_RDWR | O_NOCTTY | O_NONBLOCK);
    if (*fd < 0 || tcgetattr(*fd, &raw) != 0) {
        complain(text, CVK_NO_ANSWER, "%s: cannot be opened (%s); is `corvak serve` running?",
                 address, strerror(errno));
        if (*fd >= 0) {
            close(*fd);
        }
        free(fd);
        return CVK_NO_ANSWER;
    }
    if (!is_mine(*fd)) {
        close(*fd);
        free(fd);
        return taken(text, address);
    }
    cfmakeraw(&raw);
    tcsetattr(*fd, TCSANOW, &raw);
    tcflush(*fd, TCIOFLUSH); /* what was meant for somebody else */
    *wire = (cvk_wire){.read = pseudo_read,
                       .write = pseudo_write,
                       .now_s = monotonic_s,
                       .descriptor = pseudo_descriptor,
                       .close = pseudo_close};
    wire->context = fd;
    return CVK_OK;
}

static cvk_status open_serial(cvk_wire *wire, const char *address, const char *path, int baud,
                              char *text)
{
    if (strncmp(path, "/dev/pts/", 9) == 0) {
        return open_pseudo(wire, address, path, text);
    }
    struct sp_port *port = NULL;
    if (sp_get_port_by_name(path, &port) != SP_OK || sp_open(port, SP_MODE_READ_WRITE) != SP_OK) {
        char *why = sp_last_error_message();
        complain(text, CVK_NO_ANSWER, "%s: the line cannot be opened (%s); is the path right?",
                 address, why != NULL ? why : "no such device");
        sp_free_error_message(why);
        sp_free_port(port);
        return CVK_NO_ANSWER;
    }
    if (sp_set_baudrate(port, baud) != SP_OK || sp_set_bits(port, 8) != SP_OK ||
        sp_set_parity(port, SP_PARITY_NONE) != SP_OK || sp_set_stopbits(port, 1) != SP_OK) {
        serial_close(port);
        return complain(text, CVK_BAD_FORMAT, "%s: the line does not take this rate%s", address,
                        "; choose another with ?baud=RATE");
    }
    int fd = -1;
    if (sp_get_port_handle(port, &fd) == SP_OK && !is_mine(fd)) {
        serial_close(port);
        return taken(text, address);
    }
    sp_flush(port, SP_BUF_BOTH);
    *wire = (cvk_wire){.read = serial_read,
                       .write = serial_write,
                       .now_s = monotonic_s,
                       .descriptor = serial_descriptor,
                       .close = serial_close,
                       .bytes_per_s = baud / 10.0};
    wire->context = port;
    return CVK_OK;
}

cvk_status cvk_wire_open(cvk_wire *wire, const char *address, char *text)
{
    *wire = (cvk_wire){.context = NULL};
    text[0] = '\0';
    const bool by_tcp = strncmp(address, "tcp:", 4) == 0;
    if (!by_tcp && strncmp(address, "serial:", 7) != 0) {
        return complain(text, CVK_BAD_FORMAT,
                        "%s: a device is tcp:HOST:PORT, serial:PATH or sim:RIG%s", address, "");
    }
    extras more;
    const char *place = address + (by_tcp ? 4 : 7), *question = strchr(place, '?');
    char path[256];
    snprintf(path, sizeof path, "%.*s", (int)(question != NULL ? question - place : 255), place);
    if (!read_extras(question, &more)) {
        return complain(text, CVK_BAD_FORMAT,
                        "%s: behind it only ?baud=RATE and ?secret=FILE may stand%s", address,
                        ", such as serial:/dev/ttyACM0?baud=921600");
    }
    uint8_t secret[CVK_SECRET_BYTES];
    size_t bytes = 0;
    cvk_status status =
        more.secret[0] != '\0'
            ? cvk_secret_file_read(more.secret, secret, sizeof secret, &bytes, text, CVK_WIRE_TEXT)
            : CVK_OK;
    if (status == CVK_OK) {
        status = by_tcp ? open_tcp(wire, address, path, text)
                        : open_serial(wire, address, path, more.baud, text);
    }
    if (status == CVK_OK) {
        memcpy(wire->secret, secret, bytes);
        wire->secret_bytes = bytes;
    }
    return status;
}

void cvk_wire_close(cvk_wire *wire)
{
    if (wire->close != NULL) {
        wire->close(wire->context);
    }
    *wire = (cvk_wire){.context = NULL};
}

void cvk_serial_lines(void (*on_line)(void *context, const char *path, const char *what),
                      void *context)
{
    struct sp_port **ports = NULL;
    if (sp_list_ports(&ports) != SP_OK) {
        return;
    }
    for (int n = 0; ports[n] != NULL; n++) {
        const char *what = sp_get_port_description(ports[n]);
        on_line(context, sp_get_port_name(ports[n]), what != NULL ? what : "");
    }
    sp_free_port_list(ports);
}
