/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs as HDF5: what is written is read back; foreign units, damage and odd files.
 */
#include "corvak/files/log_file.h"
#include "corvak/files/log_writer.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define ROWS 40000u /* more than one chunk */

static char path[64];
static cvk_log_file file;
static cvk_complaint complaint;

static void name_file(void)
{
    snprintf(path, sizeof path, "/tmp/corvak-test-%ld.h5", (long)getpid());
}

static void write_log(const cvk_log_writer_column *columns, size_t count, size_t rows)
{
    static const cvk_log_writer_note notes[] = {
        {"current_gain_tolerance", "0.01"}, {"sample_rate_hz", "20000"}, {"rig", "a rig"}};
    name_file();
    cvk_log_writer *writer = cvk_log_writer_open(path, columns, count, notes, 3, &complaint);
    ck_assert_msg(writer != NULL, "%s", complaint.text);
    for (size_t n = 0; n < rows; n++) {
        double cells[8];
        for (size_t c = 0; c < count; c++) {
            cells[c] = (double)n + 0.125 * (double)c;
        }
        cvk_log_writer_row(writer, cells);
    }
    ck_assert_int_eq(cvk_log_writer_close(writer, true, &complaint), CVK_OK);
}

static cvk_status read_log(void)
{
    return cvk_log_file_read(&file, path, NULL, 0, &complaint);
}

START_TEST(what_is_written_is_read)
{
    static const cvk_log_writer_column columns[] = {
        {"ia", "mA", 3}, {"ib", "A", 3}, {"vdc", "", 3}, {"colour", "", 0}};
    write_log(columns, 4, ROWS);
    ck_assert_msg(read_log() == CVK_OK, "%s", complaint.text);
    ck_assert_uint_eq(file.log.rows, ROWS);
    ck_assert_double_eq_tol(file.log.current_gain_tolerance, 0.01, 1e-15);
    ck_assert_uint_eq(file.ignored_columns, 1);
    ck_assert_ptr_null(file.log.column[CVK_COLUMN_IC]);
    for (size_t n = 0; n < ROWS; n += 777) {
        ck_assert_double_eq_tol(file.log.column[CVK_COLUMN_IA][n], 1e-3 * (double)n, 1e-9);
        ck_assert_double_eq(file.log.column[CVK_COLUMN_IB][n], (double)n + 0.125);
        ck_assert_double_eq(file.log.column[CVK_COLUMN_VDC][n], (double)n + 0.25);
        ck_assert_double_eq_tol(file.log.column[CVK_COLUMN_T][n], (double)n / 20000.0, 1e-12);
    }
    cvk_log_file_free(&file);
    unlink(path);
}
END_TEST

START_TEST(names_can_be_mapped_and_units_refused)
{
    static const cvk_log_writer_column foreign[] = {{"stamp", "s", 3}, {"probe", "A", 3}};
    cvk_column_map maps[2];
    ck_assert_int_eq(cvk_column_map_parse(&maps[0], "t=stamp"), CVK_OK);
    ck_assert_int_eq(cvk_column_map_parse(&maps[1], "ia=probe"), CVK_OK);
    write_log(foreign, 2, 10);
    ck_assert_int_eq(read_log(), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "no data set with a known column name"));
    ck_assert_int_eq(cvk_log_file_read(&file, path, maps, 2, &complaint), CVK_OK);
    ck_assert_double_eq(file.log.column[CVK_COLUMN_IA][9], 9.125);
    cvk_log_file_free(&file);

    static const cvk_log_writer_column odd[] = {{"t", "s", 3}, {"ia", "furlong", 3}};
    write_log(odd, 2, 10);
    ck_assert_int_eq(read_log(), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "the unit \"furlong\" is not known"));

    static const cvk_log_writer_column plain[] = {{"t", "s", 3}, {"ia", "A", 3}};
    write_log(plain, 2, 0);
    ck_assert_int_eq(read_log(), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "has 0 rows"));
    unlink(path);
}
END_TEST

/* Longer than is read as a whole: stretches, which keep the time they were taken at. */
START_TEST(a_very_long_log_is_read_in_stretches)
{
    enum { MANY = 4100000 };
    static const cvk_log_writer_column columns[] = {{"t", "s", 9}, {"ia", "A", 3}};
    static const cvk_log_writer_column timeless[] = {{"ia", "A", 3}};
    write_log(columns, 2, MANY);
    ck_assert_msg(read_log() == CVK_OK, "%s", complaint.text);
    ck_assert(file.stretched);
    ck_assert_uint_lt(file.log.rows, MANY / 4);
    const double *t = file.log.column[CVK_COLUMN_T], *ia = file.log.column[CVK_COLUMN_IA];
    size_t jumps = 0;
    for (size_t n = 1; n < file.log.rows; n++) {
        ck_assert_double_eq(ia[n], t[n] + 0.125);
        ck_assert_double_gt(t[n], t[n - 1]);
        jumps += t[n] - t[n - 1] > 1.5;
    }
    ck_assert_uint_gt(jumps, 20);
    ck_assert_double_gt(t[file.log.rows - 1], 0.9 * MANY);
    cvk_log_file_free(&file);
    write_log(timeless, 1, MANY);
    ck_assert_int_eq(read_log(), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "without a time column"));
    unlink(path);
}
END_TEST

static void write_bytes(const unsigned char *bytes, size_t length)
{
    FILE *stream = fopen(path, "wb");
    ck_assert_ptr_nonnull(stream);
    ck_assert_uint_eq(fwrite(bytes, 1, length, stream), length);
    fclose(stream);
}

/* Cut anywhere, or with bytes turned over: refused with a reason, or read; never a crash. */
START_TEST(damage_is_refused)
{
    static const cvk_log_writer_column columns[] = {{"t", "s", 3}, {"ia", "A", 3}, {"vdc", "V", 3}};
    write_log(columns, 3, 5000);
    FILE *stream = fopen(path, "rb");
    static unsigned char whole[400000], damaged[400000];
    size_t length = fread(whole, 1, sizeof whole, stream);
    fclose(stream);
    ck_assert_uint_lt(length, sizeof whole);
    for (size_t cut = 8; cut < length; cut += length / 40) {
        write_bytes(whole, cut);
        ck_assert_int_ne(read_log(), CVK_OK);
        ck_assert_msg(strncmp(complaint.text, path, strlen(path)) == 0, "%s", complaint.text);
    }
    unsigned lcg = 12345;
    for (int trial = 0; trial < 200; trial++) {
        memcpy(damaged, whole, length);
        for (int k = 0; k < 4; k++) {
            lcg = lcg * 1664525u + 1013904223u;
            damaged[8 + (lcg >> 8) % (length - 8)] ^= (unsigned char)(1u << (lcg >> 29));
        }
        write_bytes(damaged, length);
        if (read_log() == CVK_OK) {
            ck_assert_uint_eq(file.log.rows, 5000);
        }
        cvk_log_file_free(&file);
    }
    unlink(path);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, what_is_written_is_read);
    tcase_add_test(tests, names_can_be_mapped_and_units_refused);
    tcase_add_test(tests, a_very_long_log_is_read_in_stretches);
    tcase_add_test(tests, damage_is_refused);
}

int main(void)
{
    return run_suite("log_hdf5", add);
}
