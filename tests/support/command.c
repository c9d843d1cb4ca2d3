/* SPDX-License-Identifier: Apache-2.0
 *
 * Running the command in a scratch folder.
 */
#include "command.h"

#include <check.h>
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
    ck_assert_msg(status == expected, "exit status %d, not %d\nstdout: %s\nstderr: %s", status,
                  expected, out, err);
}

void assert_says(const char *text, const char *words)
{
    ck_assert_msg(strstr(text, words) != NULL, "\"%s\" lacks \"%s\"", text, words);
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
