/* SPDX-License-Identifier: Apache-2.0
 *
 * The corvak command as a user runs it, for tests: a scratch folder, runs, what they said.
 */
#ifndef CORVAK_TESTS_COMMAND_H
#define CORVAK_TESTS_COMMAND_H

#include <glib.h>

extern char *dir;       /* scratch folder of the suite */
extern char *out, *err; /* of the last run */

void make_folder(void);
void remove_folder(void);

/* Runs a command line in the scratch folder; returns its exit status. */
int run(const char *format, ...) G_GNUC_PRINTF(1, 2);

void assert_status(int status, int expected);
/* The words are in the text; columns may be any width. */
void assert_says(const char *text, const char *words);

/* Files of the scratch folder. */
void write_file(const char *name, const char *text, gssize length);
char *read_file(const char *name);

/* A long text as lines, without their newlines; free with g_strfreev(). Not g_strsplit(): that
 * looks through the whole rest of the text for each line when strings are checked by a sanitizer.
 */
char **split_lines(const char *text);

/* corvak serve of the wheel in the background; where it listens, and what it tells ("server" in
 * `dir`). */
extern char *address;
void start_server_with(const char *listen, const char *option, const char *value);
void start_server(const char *listen);
void end_server(int signal_number);
void stop_server(void); /* by Ctrl-C */

#endif
