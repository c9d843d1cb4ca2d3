/* SPDX-License-Identifier: Apache-2.0
 *
 * CSV logs: dialects, units, damage, and what the messages say.
 */
#include "corvak/files/log_file.h"
#include "suite.h"

#include <math.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

static cvk_log_file file;
static cvk_complaint complaint;

static cvk_status parse(const char *text)
{
    cvk_log_file_free(&file);
    complaint.text[0] = '\0';
    return cvk_log_file_parse(&file, "dir/some.csv", text, strlen(text), NULL, 0, &complaint);
}

static double cell(cvk_column column, size_t row)
{
    ck_assert_msg(file.log.column[column] != NULL, "no column %s", cvk_column_name(column));
    ck_assert_uint_lt(row, file.log.rows);
    return file.log.column[column][row];
}

static void assert_refused(const char *text, const char *words)
{
    cvk_status status = parse(text);
    ck_assert_msg(status != CVK_OK, "accepted: %.60s", text);
    ck_assert_msg(strstr(complaint.text, words) != NULL, "\"%s\" lacks \"%s\"", complaint.text,
                  words);
    ck_assert_msg(strncmp(complaint.text, "dir/some.csv", 12) == 0, "no file in \"%s\"",
                  complaint.text);
    ck_assert_uint_eq(file.log.rows, 0);
}

/* The same two rows in every dialect that is promised. */
START_TEST(dialects_read_alike)
{
    static const char *const texts[] = {
        "t [s],ia [A],ib [A]\n0.0001,1.5,-2\n0.0002,2.5,-3\n",
        "t_s;ia_a;ib_a\r\n0,0001;1,5;-2\r\n0,0002;2,5;-3\r\n",
        "\xef\xbb\xbft (ms)\tia (mA)\tib (mA)\n0.1\t1500\t-2000\n0.2\t2500\t-3000\n",
        "# rig: wheel\n# a note\n\nT [us], IA [A], IB [A]\n100, 1.5, -2\n200, 2.5, -3",
        "\"t [s]\",\"ia [A]\",\"ib [A]\"\n\"0.0001\",\"1.5\",\"-2\"\n0.0002,2.5,-3\n",
        "Model,SCOPE-1\nSample "
        "interval,1e-4\ntime,i_a,i_b\n(s),(A),(A)\n1e-4,1.5,-2\n2e-4,25e-1,-3\n",
        "x,t [s],ia [A],remark,ib [A]\n7,0.0001,1.5,ok,-2\n8,0.0002,2.5,ok,-3\n",
        "t [s];ia [A];ib [A]\n+0.0001;+1.5;-2.0\n.0002;2.50000000000000000001;-3.\n",
        "t [\xc2\xb5s],ia [\xce\xbc"
        "A],ib [A]\n100,1500000,-2\n200,2500000,-3\n",
    };
    for (size_t n = 0; n < sizeof texts / sizeof texts[0]; n++) {
        cvk_status status = parse(texts[n]);
        ck_assert_msg(status == CVK_OK, "dialect %zu: %s", n, complaint.text);
        ck_assert_msg(file.log.rows == 2, "dialect %zu: %zu rows", n, file.log.rows);
        ck_assert_msg(file.bad_cells == 0, "dialect %zu: %zu bad cells", n, file.bad_cells);
        ck_assert_double_eq_tol(cell(CVK_COLUMN_T, 1), 2e-4, 1e-12);
        ck_assert_double_eq_tol(cell(CVK_COLUMN_IA, 0), 1.5, 1e-9);
        ck_assert_double_eq_tol(cell(CVK_COLUMN_IA, 1), 2.5, 1e-9);
        ck_assert_double_eq_tol(cell(CVK_COLUMN_IB, 1), -3.0, 1e-9);
        ck_assert_str_eq(file.log.name, "some.csv");
    }
}
END_TEST

/* A data logger's table: what counts stands far to the right. */
START_TEST(columns_far_to_the_right_are_seen)
{
    static char wide[8192];
    size_t used = 0;
    const char *const lines[] = {"t [s],ia [A],ib [A]\n", "0.0001,1.5,-2\n", "0.0002,2.5,-3\n"};
    for (int line = 0; line < 3; line++) {
        for (int c = 0; c < 300; c++) {
            used +=
                (size_t)snprintf(wide + used, sizeof wide - used, line == 0 ? "x%d," : "%d,", c);
        }
        used += (size_t)snprintf(wide + used, sizeof wide - used, "%s", lines[line]);
    }
    ck_assert_int_eq(parse(wide), CVK_OK);
    ck_assert_double_eq(cell(CVK_COLUMN_IB, 1), -3.0);
    ck_assert_uint_eq(file.ignored_columns, 300);
}
END_TEST

START_TEST(units_of_every_kind)
{
    ck_assert_int_eq(
        parse("t [s],ia [kA],vdc [mV],duty_a [%],theta_m [deg],speed_m [rpm],temp [degC]\n"
              "0,0.002,24000,25,180,60,25\n"),
        CVK_OK);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_IA, 0), 2.0, 1e-12);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_VDC, 0), 24.0, 1e-12);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_DUTY_A, 0), 0.25, 1e-12);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_THETA_M, 0), 3.14159265358979, 1e-12);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_SPEED_M, 0), 6.28318530717959, 1e-12);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_TEMP, 0), 25.0, 1e-12);
}
END_TEST

START_TEST(header_keys_are_read)
{
    ck_assert_int_eq(parse("# current_gain_tolerance: 0.003\n# voltage_gain_tolerance=0.002\n"
                           "# sample_rate_hz: 20000\n# encoder_counts: 4096\nia [A],ib [A]\n"
                           "1,2\n3,4\n5,6\n"),
                     CVK_OK);
    ck_assert_double_eq(file.log.current_gain_tolerance, 0.003);
    ck_assert_double_eq(file.log.voltage_gain_tolerance, 0.002);
    ck_assert_double_eq(file.log.encoder_counts, 4096.0);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_T, 2), 1e-4, 1e-15);
    ck_assert_int_eq(parse("t,ia\n0,1\n"), CVK_OK);
    ck_assert_double_lt(file.log.current_gain_tolerance, 0.0);
}
END_TEST

START_TEST(columns_can_be_mapped)
{
    cvk_column_map maps[3];
    const char text[] = "sec,CH1 Current,CH2 (mA)\n0.5,1,2000\n";
    ck_assert_int_eq(cvk_column_map_parse(&maps[0], "t=sec"), CVK_OK);
    ck_assert_int_eq(cvk_column_map_parse(&maps[1], "ia=CH1 Current"), CVK_OK);
    ck_assert_int_eq(cvk_column_map_parse(&maps[2], "ib=CH2"), CVK_OK);
    cvk_log_file_free(&file);
    ck_assert_int_eq(cvk_log_file_parse(&file, "x.csv", text, strlen(text), maps, 3, &complaint),
                     CVK_OK);
    ck_assert_double_eq(cell(CVK_COLUMN_T, 0), 0.5);
    ck_assert_double_eq(cell(CVK_COLUMN_IA, 0), 1.0);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_IB, 0), 2.0, 1e-12);
    ck_assert_int_eq(cvk_column_map_parse(&maps[0], "ia"), CVK_BAD_FORMAT);
    ck_assert_int_eq(cvk_column_map_parse(&maps[0], "ix=CH1"), CVK_BAD_FORMAT);
    ck_assert_int_eq(cvk_column_map_parse(&maps[0], "ia="), CVK_BAD_FORMAT);
}
END_TEST

static cvk_status parse_mapped(const char *text, const char *pair)
{
    cvk_column_map map;
    ck_assert_int_eq(cvk_column_map_parse(&map, pair), CVK_OK);
    cvk_log_file_free(&file);
    return cvk_log_file_parse(&file, "x.csv", text, strlen(text), &map, 1, &complaint);
}

START_TEST(an_unknown_unit_is_not_passed_over)
{
    const char text[] = "t,Strom (Milliampere),ib\n0,680,0.69\n";
    ck_assert_int_eq(parse_mapped(text, "ia=Strom (Milliampere)"), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "the unit \"Milliampere\" is not known"));
    ck_assert_int_eq(parse_mapped(text, "ia=Strom"), CVK_BAD_FORMAT);
    ck_assert_int_eq(parse_mapped(text, "ia=Strom [mA]"), CVK_OK);
    ck_assert_double_eq_tol(cell(CVK_COLUMN_IA, 0), 0.68, 1e-12);
}
END_TEST

START_TEST(bad_cells_are_counted_with_their_place)
{
    ck_assert_int_eq(parse("t,ia,ib\n0,1,2\n1,,2\n2,nan,2\n3,1x,2\n4,1,2\n5,1,2\n6,1\n7,1,2\n"),
                     CVK_OK);
    ck_assert_uint_eq(file.log.rows, 8);
    ck_assert_uint_eq(file.bad_cells, 4);
    ck_assert_int_eq(file.first_bad_line, 3);
    ck_assert(isnan(cell(CVK_COLUMN_IA, 1)));
    ck_assert(isnan(cell(CVK_COLUMN_IA, 3)));
    ck_assert(isnan(cell(CVK_COLUMN_IB, 6)));
    ck_assert_double_eq(cell(CVK_COLUMN_IB, 7), 2.0);
}
END_TEST

START_TEST(a_cut_last_line_is_left_out)
{
    ck_assert_int_eq(parse("t,ia,ib\n0,1,2\n1,3,4\n2,5"), CVK_OK);
    ck_assert_uint_eq(file.log.rows, 2);
    ck_assert(file.truncated);
    ck_assert_uint_eq(file.bad_cells, 0);
    ck_assert_int_eq(parse("t,ia,ib\n0,1,2\n1,3,4"), CVK_OK);
    ck_assert_uint_eq(file.log.rows, 2);
    ck_assert(!file.truncated);
}
END_TEST

START_TEST(unreadable_files_say_why)
{
    assert_refused("", "empty");
    assert_refused("\n\n# note\n", "no data");
    assert_refused("t,ia,ib\n", "no data rows");
    assert_refused("1,2,3\n4,5,6\n", "--map");
    assert_refused("hello world\n", "hello world");
    assert_refused("t,ia [V],ib\n0,1,2\n", "unit \"V\" is not known; allowed: A mA");
    assert_refused("t,ia,ia\n0,1,2\n", "appears twice");
    assert_refused("t,ia,ib\na,b,c\nd,e,f\n", "not numbers");
    assert_refused("t [parsec],ia,ib\n1,2,3\n", "dir/some.csv:1:");
    const char binary[] = "\x7f"
                          "ELF\0\0\0\0junk";
    ck_assert_int_eq(cvk_log_file_parse(&file, "x", binary, sizeof binary - 1, NULL, 0, &complaint),
                     CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "binary"));
}
END_TEST

START_TEST(missing_and_unreadable_paths_say_why)
{
    ck_assert_int_eq(cvk_log_file_read(&file, "/no/such/log.csv", NULL, 0, &complaint),
                     CVK_FILE_ERROR);
    ck_assert_ptr_nonnull(strstr(complaint.text, "/no/such/log.csv"));
    ck_assert_int_eq(cvk_log_file_read(&file, "/", NULL, 0, &complaint), CVK_FILE_ERROR);
    ck_assert_int_eq(cvk_log_file_read(&file, "/no/such/log.csv", NULL, 0, NULL), CVK_FILE_ERROR);
}
END_TEST

/* Numbers as strtod reads them, to the last bit, whatever their form. */
START_TEST(numbers_are_exact)
{
    static const char *const numbers[] = {"0",
                                          "-0.0",
                                          "3.141592653589793",
                                          "1e-7",
                                          "123456789012345678",
                                          "0.1",
                                          "-25.4999999999",
                                          "1.7976931348623157e308",
                                          "4.9e-324",
                                          "00012.50",
                                          "9007199254740993",
                                          "1234567.1234567"};
    for (size_t n = 0; n < sizeof numbers / sizeof numbers[0]; n++) {
        char text[200];
        snprintf(text, sizeof text, "t,ia\n1,%s\n", numbers[n]);
        ck_assert_int_eq(parse(text), CVK_OK);
        ck_assert_double_eq(cell(CVK_COLUMN_IA, 0), strtod(numbers[n], NULL));
    }
}
END_TEST

/* Cut after any byte, the file is read or refused, and never crashes. */
START_TEST(any_cut_is_survived)
{
    const char text[] = "# sample_rate_hz: 20000\nt [ms];ia (A);vdc_mv\n1,5;-2,25;24000\n2;3;4\n";
    for (size_t length = 0; length < sizeof text; length++) {
        cvk_log_file_free(&file);
        cvk_status status = cvk_log_file_parse(&file, "cut.csv", text, length, NULL, 0, &complaint);
        ck_assert(status == CVK_OK || complaint.text[0] != '\0');
    }
}
END_TEST

/* A few thousand random changes to a good file: read or refused with a word, never a crash. */
START_TEST(random_damage_is_survived)
{
    const char good[] =
        "# encoder_counts: 100\nt [ms];ia (A);vdc_mv\n1,5;-2,25;24000\n2;3;4\n3;4;5\n";
    unsigned random = 1u;
    for (int n = 0; n < 5000; n++) {
        char text[sizeof good];
        memcpy(text, good, sizeof good);
        for (int change = 0; change < 1 + n % 7; change++) {
            random = random * 1664525u + 1013904223u;
            text[(random >> 8) % (sizeof good - 1)] = (char)(random >> 24);
        }
        complaint.text[0] = '\0';
        cvk_log_file_free(&file);
        cvk_status status =
            cvk_log_file_parse(&file, "hurt.csv", text, sizeof good - 1, NULL, 0, &complaint);
        ck_assert_msg(status == CVK_OK || complaint.text[0] != '\0', "refused without a word: %s",
                      text);
        ck_assert(status == CVK_OK || file.log.rows == 0);
    }
}
END_TEST

/* Writes rows of 64 bytes until the file has `megabytes`. */
static size_t write_long(const char *path, unsigned megabytes, bool time)
{
    const size_t rows = ((size_t)megabytes << 20) / 64u;
    FILE *stream = fopen(path, "wb");
    ck_assert_ptr_nonnull(stream);
    fputs(time ? "t,ia,ib,note\n" : "# sample_rate_hz: 1e4\nrow,ia,ib,note\n", stream);
    for (size_t k = 0; k < rows; k++) {
        fprintf(stream, "%011.4f,%010.4f,%010.4f,%029zu\n", 1e-4 * (double)k, (double)(k % 100),
                -(double)(k % 100), k);
    }
    ck_assert_int_eq(fclose(stream), 0);
    return rows;
}

/* A log too long for memory is read as evenly spread stretches of whole lines. */
START_TEST(a_long_log_is_read_in_stretches)
{
    const char *path = "long.tmp.csv";
    const size_t rows = write_long(path, 170, true);
    cvk_status status = cvk_log_file_read(&file, path, NULL, 0, &complaint);
    remove(path);
    ck_assert_msg(status == CVK_OK, "%s", complaint.text);
    ck_assert(file.stretched);
    ck_assert_uint_gt(file.log.rows, rows / 10);
    ck_assert_uint_lt(file.log.rows, rows);
    ck_assert_uint_eq(file.bad_cells, 0);
    const double *t = file.log.column[CVK_COLUMN_T], *ia = file.log.column[CVK_COLUMN_IA];
    for (size_t k = 0; k < file.log.rows; k++) {
        ck_assert(k == 0 || t[k] > t[k - 1]);
        ck_assert_double_eq(ia[k], (double)((size_t)(t[k] * 1e4 + 0.5) % 100));
    }
    ck_assert_double_gt(t[file.log.rows - 1], 0.999 * 1e-4 * (double)(rows - 1));
    cvk_log_file_free(&file);
    write_long(path, 170, false);
    ck_assert_int_eq(cvk_log_file_read(&file, path, NULL, 0, &complaint), CVK_BAD_FORMAT);
    remove(path);
    ck_assert_ptr_nonnull(strstr(complaint.text, "time column"));
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, dialects_read_alike);
    tcase_add_test(tests, columns_far_to_the_right_are_seen);
    tcase_add_test(tests, units_of_every_kind);
    tcase_add_test(tests, header_keys_are_read);
    tcase_add_test(tests, columns_can_be_mapped);
    tcase_add_test(tests, an_unknown_unit_is_not_passed_over);
    tcase_add_test(tests, bad_cells_are_counted_with_their_place);
    tcase_add_test(tests, a_cut_last_line_is_left_out);
    tcase_add_test(tests, unreadable_files_say_why);
    tcase_add_test(tests, missing_and_unreadable_paths_say_why);
    tcase_add_test(tests, numbers_are_exact);
    tcase_add_test(tests, any_cut_is_survived);
    tcase_add_test(tests, random_damage_is_survived);
    tcase_add_test(tests, a_long_log_is_read_in_stretches);
}

int main(void)
{
    return run_suite("log csv", add);
}
