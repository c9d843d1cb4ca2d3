/* SPDX-License-Identifier: Apache-2.0
 *
 * Messages, options, progress, and numbers as people write them.
 */
#include "cli.h"

#include "corvak/files/tune_yaml.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static char *place; /* of a script, before each complaint */
static char *last;  /* complaint */

const char *last_complaint(void)
{
    return last != NULL ? last : "";
}

void complain_from(const char *file, int line)
{
    g_free(place);
    place = file != NULL ? g_strdup_printf("%s:%d: ", file, line) : NULL;
}

int complain_usage(const char *verb, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    char *message = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_printerr("corvak %s: %s%s\n", verb, place != NULL ? place : "", message);
    g_free(last);
    last = message;
    return EXIT_BAD_USAGE;
}

int complain_file(const char *verb, const cvk_complaint *complaint)
{
    return complain_usage(verb, "%s", complaint->text);
}

int complain_refusal(const char *verb, cvk_status status, const cvk_refusal *why)
{
    char text[300];
    cvk_refusal_text(status, why, text, sizeof text);
    return complain_usage(verb, "%s", text);
}

static gboolean same_file(const char *a, const char *b)
{
    struct stat x, y;
    return stat(a, &x) == 0 && stat(b, &y) == 0 && x.st_dev == y.st_dev && x.st_ino == y.st_ino;
}

int check_output(const char *verb, const char *path, gboolean figure, char *const *inputs,
                 int count)
{
    if (path == NULL || strcmp(path, "-") == 0) {
        return EXIT_DONE;
    }
    if (figure && !g_str_has_suffix(path, ".png") && !g_str_has_suffix(path, ".svg")) {
        return complain_usage(verb, "%s: name the figure FILE.png or FILE.svg", path);
    }
    for (int n = 0; n < count; n++) {
        if (inputs[n] != NULL && same_file(path, inputs[n])) {
            return complain_usage(verb, "%s: the output would overwrite the input %s; name another",
                                  path, inputs[n]);
        }
    }
    char *folder = g_path_get_dirname(path);
    const int status =
        !g_file_test(folder, G_FILE_TEST_IS_DIR)
            ? complain_usage(verb, "%s: cannot be written: there is no folder %s", path, folder)
        : g_file_test(path, G_FILE_TEST_IS_DIR)
            ? complain_usage(verb, "%s: cannot be written: that is a folder; name a file in it",
                             path)
        : access(folder, W_OK) != 0
            ? complain_usage(verb, "%s: cannot be written: the folder %s may not be written to",
                             path, folder)
            : EXIT_DONE;
    g_free(folder);
    return status;
}

int check_stdout(int status)
{
    if (fflush(stdout) != 0 || ferror(stdout) != 0) {
        g_printerr("corvak: the output cannot be written completely: is the disk full?\n");
        return EXIT_BAD_USAGE;
    }
    return status;
}

gboolean parse_options(const char *verb, const char *parameters, const char *summary,
                       const char *example, const GOptionEntry *entries, int *argc, char ***argv)
{
    char *program = g_strconcat("corvak ", verb, NULL);
    g_set_prgname(program);
    g_free(program);
    char *description = g_strdup_printf("Example:\n  %s\n", example);
    GOptionContext *context = g_option_context_new(parameters);
    g_option_context_set_summary(context, summary);
    g_option_context_set_description(context, description);
    g_option_context_add_main_entries(context, entries, NULL);
    GError *error = NULL;
    gboolean fine = g_option_context_parse(context, argc, argv, &error);
    if (!fine) {
        complain_usage(verb, "%s; see corvak %s --help", error->message, verb);
        g_error_free(error);
    }
    g_option_context_free(context);
    g_free(description);
    return fine;
}

void show_progress(const char *what, double share)
{
    if (!isatty(STDERR_FILENO)) {
        return;
    }
    if (share >= 1.0) {
        g_printerr("\r\033[K");
    } else {
        enum { WIDTH = 40 };
        char bar[WIDTH + 1];
        for (int n = 0; n < WIDTH; n++) {
            bar[n] = n < share * WIDTH ? '#' : '.';
        }
        bar[WIDTH] = '\0';
        g_printerr("\r%s [%s] %3.0f %%", what, bar, 100.0 * share);
    }
}

int show_document(cvk_doc *doc, gboolean json)
{
    char *text = json ? cvk_doc_as_json(doc, true) : cvk_doc_as_text(doc);
    g_print("%s%s", text, json ? "\n" : "");
    g_free(text);
    cvk_doc_free(doc);
    return EXIT_DONE;
}

void show_json_line(cvk_doc *doc)
{
    char *text = cvk_doc_as_json(doc, false);
    g_print("%s\n", text);
    fflush(stdout);
    g_free(text);
    cvk_doc_free(doc);
}
