/* SPDX-License-Identifier: Apache-2.0
 *
 * Files that are written: whatever happens meanwhile, there is the old file or the new one.
 */
#include "corvak/files/card_yaml.h"
#include "corvak/files/log_writer.h"
#include "corvak/files/tune_yaml.h"
#include "noise.h"
#include "suite.h"

#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

static char folder[] = "/tmp/corvak-writing-XXXXXX";
static char path[64], beside[80], other[64];

static void make_folder(void)
{
    ck_assert_ptr_nonnull(mkdtemp(folder));
    snprintf(path, sizeof path, "%s/x.yaml", folder);
    snprintf(beside, sizeof beside, "%s.part", path);
    snprintf(other, sizeof other, "%s/other", folder);
}

static void remove_folder(void)
{
    unlink(path);
    unlink(beside);
    unlink(other);
    rmdir(folder);
}

/* Two tunes of different length, told apart by their name. */
static cvk_tune tune_of(bool long_one)
{
    cvk_tune tune;
    cvk_tune_start(&tune);
    snprintf(tune.name, sizeof tune.name, "%s", long_one ? "long" : "short");
    for (unsigned n = 0; n < (long_one ? cvk_parameter_count() : 5u); n++) {
        cvk_tune_give(&tune, cvk_parameter_at(n), "a test");
    }
    return tune;
}

static cvk_status write_tune(bool long_one)
{
    const cvk_tune tune = tune_of(long_one);
    cvk_complaint complaint;
    return cvk_tune_file_write(&tune, path, &complaint);
}

static void is_whole(const char *when)
{
    cvk_tune read;
    cvk_complaint complaint = {.text = ""};
    cvk_tune_start(&read);
    ck_assert_msg(cvk_tune_file_read(&read, path, &complaint) == CVK_OK, "%s: %s", when,
                  complaint.text);
    const cvk_tune whole = tune_of(strcmp(read.name, "long") == 0);
    ck_assert_mem_eq(read.given, whole.given, sizeof whole.given);
}

/* Killed at any moment: writing one tune after the other, some 20 times in the time it is left. */
START_TEST(a_killed_writer_leaves_a_whole_file)
{
    lcg = 11u;
    ck_assert_int_eq(write_tune(false), CVK_OK);
    for (int n = 0; n < 300; n++) {
        const pid_t writer = fork();
        if (writer == 0) {
            for (bool long_one = true;; long_one = !long_one) {
                (void)write_tune(long_one);
            }
        }
        nanosleep(&(struct timespec){0, 100000 + (long)(4e6 * (uniform() + 0.5))}, NULL);
        kill(writer, SIGKILL);
        waitpid(writer, NULL, 0);
        is_whole("killed");
    }
    ck_assert_int_eq(write_tune(true), CVK_OK); /* what was left beside it is no obstacle */
    ck_assert_int_ne(access(beside, F_OK), 0);
}
END_TEST

/* No more than so many bytes fit: as on a full disk. */
static void bytes_fit(rlim_t count)
{
    const struct rlimit limit = {count, RLIM_INFINITY};
    ck_assert_int_eq(setrlimit(RLIMIT_FSIZE, &limit), 0);
}

static cvk_status write_card(void)
{
    const cvk_card card = {.name = "x"};
    cvk_complaint complaint;
    return cvk_card_file_write(&card, path, &complaint);
}

static cvk_status write_log(void)
{
    static const cvk_log_writer_column column = {"ia", "A", 6};
    cvk_complaint complaint;
    cvk_log_writer *w = cvk_log_writer_open(path, &column, 1, NULL, 0, &complaint);
    if (w == NULL) {
        return CVK_FILE_ERROR;
    }
    for (int row = 0; row < 500; row++) {
        const double cell = row;
        cvk_log_writer_row(w, &cell);
    }
    return cvk_log_writer_close(w, true, &complaint);
}

static cvk_status write_long_tune(void)
{
    return write_tune(true);
}

START_TEST(a_full_disk_leaves_the_old_file)
{
    static cvk_status (*const writers[])(void) = {write_long_tune, write_card, write_log};
    signal(SIGXFSZ, SIG_IGN);
    ck_assert_int_eq(write_tune(false), CVK_OK);
    struct stat old, now;
    ck_assert_int_eq(stat(path, &old), 0);
    for (rlim_t bytes = 0; bytes < 200; bytes += 13) {
        bytes_fit(bytes);
        const cvk_status status = writers[_i]();
        bytes_fit(RLIM_INFINITY);
        ck_assert_int_eq(status, CVK_FILE_ERROR);
        is_whole("full");
        ck_assert_int_eq(stat(path, &now), 0);
        ck_assert_int_eq((int)now.st_ino, (int)old.st_ino);
        ck_assert_int_ne(access(beside, F_OK), 0);
    }
}
END_TEST

START_TEST(a_planted_link_is_not_followed)
{
    FILE *precious = fopen(other, "w");
    ck_assert_ptr_nonnull(precious);
    fputs("precious", precious);
    fclose(precious);
    ck_assert_int_eq(symlink(other, beside), 0);
    ck_assert_int_eq(write_tune(false), CVK_OK);
    is_whole("planted");
    struct stat info;
    ck_assert_int_eq(stat(other, &info), 0);
    ck_assert_int_eq((int)info.st_size, 8);
}
END_TEST

/* And the mode of the old file stays. */
START_TEST(a_second_writer_is_refused)
{
    static const cvk_log_writer_column column = {"ia", "A", 6};
    static const char *const names[] = {"x.yaml", "x.h5"};
    cvk_complaint complaint;
    snprintf(path, sizeof path, "%s/%s", folder, names[_i]);
    snprintf(beside, sizeof beside, "%s.part", path);
    cvk_log_writer *first = cvk_log_writer_open(path, &column, 1, NULL, 0, &complaint);
    ck_assert_ptr_nonnull(first);
    ck_assert_ptr_null(cvk_log_writer_open(path, &column, 1, NULL, 0, &complaint));
    ck_assert_msg(strstr(complaint.text, "another program") != NULL, "%s", complaint.text);
    ck_assert_int_eq(cvk_log_writer_close(first, true, &complaint), CVK_OK);
    ck_assert_int_eq(chmod(path, 0640), 0);
    cvk_log_writer *again = cvk_log_writer_open(path, &column, 1, NULL, 0, &complaint);
    ck_assert_ptr_nonnull(again);
    ck_assert_int_eq(cvk_log_writer_close(again, true, &complaint), CVK_OK);
    struct stat info;
    ck_assert_int_eq(stat(path, &info), 0);
    ck_assert(_i == 1 || (info.st_mode & 0777) == 0640);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_checked_fixture(tests, make_folder, remove_folder);
    tcase_add_test(tests, a_killed_writer_leaves_a_whole_file);
    tcase_add_loop_test(tests, a_full_disk_leaves_the_old_file, 0, 3);
    tcase_add_test(tests, a_planted_link_is_not_followed);
    tcase_add_loop_test(tests, a_second_writer_is_refused, 0, 2);
}

int main(void)
{
    return run_suite("writing", add);
}
