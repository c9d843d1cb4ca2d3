/* SPDX-License-Identifier: Apache-2.0
 *
 * Running the command in a scratch folder.
 */
#include "command.h"

#include <check.h>
#include <gio/gio.h>
#include <glib/gstdio.h>
#include <string.h>
#include <sys/wait.h>

char *dir, *out, *err;

int run(const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    char **argv = NULL;
    int wait_status = 0;
    GError *error = NULL;
    g_clear_pointer(&out, g_free);
    g_clear_pointer(&err, g_free);
    ck_assert(g_shell_parse_argv(line, NULL, &argv, NULL));
    gboolean started = g_spawn_sync(dir, argv, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, &out, &err,
                                    &wait_status, &error);
    ck_assert_msg(started, "%s: %s", line, started ? "" : error->message);
    g_strfreev(argv);
    g_free(line);
    ck_assert_msg(WIFEXITED(wait_status), "killed by signal %d; stderr: %s", WTERMSIG(wait_status),
                  err);
    return WEXITSTATUS(wait_status);
}

void assert_status(int status, int expected)
{
    ck_assert_msg(status == expected, "exit status %d, not %d\nstdout: %.1500s\nstderr: %.1500s",
                  status, expected, out, err);
}

/* Runs of spaces as one. */
static char *squeezed(const char *text)
{
    GString *out = g_string_new(NULL);
    for (; *text != '\0'; text++) {
        if (*text != ' ' || out->len == 0 || out->str[out->len - 1] != ' ') {
            g_string_append_c(out, *text);
        }
    }
    return g_string_free(out, FALSE);
}

void assert_says(const char *text, const char *words)
{
    char *said = squeezed(text), *wanted = squeezed(words);
    ck_assert_msg(strstr(said, wanted) != NULL, "\"%.2000s\" lacks \"%s\"", text, words);
    g_free(said);
    g_free(wanted);
}

void write_file(const char *name, const char *text, gssize length)
{
    char *path = g_build_filename(dir, name, NULL);
    ck_assert(g_file_set_contents(path, text, length, NULL));
    g_free(path);
}

char *read_file(const char *name)
{
    char *path = g_build_filename(dir, name, NULL), *text = NULL;
    ck_assert_msg(g_file_get_contents(path, &text, NULL, NULL), "cannot read %s", path);
    g_free(path);
    return text;
}

char **split_lines(const char *text)
{
    GPtrArray *lines = g_ptr_array_new();
    const char *end = text + strlen(text), *stop;
    for (; (stop = memchr(text, '\n', (size_t)(end - text))) != NULL; text = stop + 1) {
        g_ptr_array_add(lines, g_strndup(text, (gsize)(stop - text)));
    }
    g_ptr_array_add(lines, g_strdup(text));
    g_ptr_array_add(lines, NULL);
    return (char **)g_ptr_array_free(lines, FALSE);
}

void make_folder(void)
{
    dir = g_dir_make_tmp("corvak-test-XXXXXX", NULL);
}

void remove_folder(void)
{
    GDir *listing = g_dir_open(dir, 0, NULL);
    const char *name;
    while ((name = g_dir_read_name(listing)) != NULL) {
        char *path = g_build_filename(dir, name, NULL);
        g_remove(path);
        g_free(path);
    }
    g_dir_close(listing);
    g_rmdir(dir);
}

/* ---- a controller in another process ------------------------------------------------------ */

static GSubprocess *server;
char *address;

void start_server_with(const char *listen, const char *option, const char *value)
{
    GError *error = NULL;
    char *stderr_path = g_build_filename(dir, "server", NULL);
    GSubprocessLauncher *launcher = g_subprocess_launcher_new(G_SUBPROCESS_FLAGS_STDOUT_PIPE);
    g_subprocess_launcher_set_stderr_file_path(launcher, stderr_path);
    g_subprocess_launcher_set_cwd(launcher, dir);
    server = g_subprocess_launcher_spawn(launcher, &error, CORVAK_COMMAND, "serve",
                                         CORVAK_DATA "/wheel.rig.yaml", "--listen", listen, option,
                                         value, NULL);
    ck_assert_ptr_nonnull(server);
    GDataInputStream *lines = g_data_input_stream_new(g_subprocess_get_stdout_pipe(server));
    address = g_data_input_stream_read_line(lines, NULL, NULL, &error);
    ck_assert_ptr_nonnull(address);
    g_object_unref(lines);
    g_object_unref(launcher);
    g_free(stderr_path);
}

void start_server(const char *listen)
{
    start_server_with(listen, NULL, NULL);
}

void end_server(int signal_number)
{
    g_subprocess_send_signal(server, signal_number);
    ck_assert(g_subprocess_wait_check(server, NULL, NULL));
    g_object_unref(server);
    g_free(address);
}

void stop_server(void)
{
    end_server(SIGINT);
}
