/* SPDX-License-Identifier: Apache-2.0
 *
 * A document and what its renderers make of it.
 */
#include "corvak/document/document.h"
#include "corvak/document/number.h"
#include "suite.h"

#include <glib.h>
#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>

static void assert_text(cvk_doc *doc, const char *wanted)
{
    char *text = cvk_doc_as_text(doc);
    ck_assert_str_eq(text, wanted);
    g_free(text);
    cvk_doc_free(doc);
}

static void assert_json(cvk_doc *doc, const char *wanted)
{
    char *text = cvk_doc_as_json(doc, false);
    ck_assert_str_eq(text, wanted);
    g_free(text);
    cvk_doc_free(doc);
}

START_TEST(people_read_customary_units)
{
    static const struct {
        const char *key;
        double value;
        const char *text;
    } rows[] = {{"resistance_ohm", 0.169, "169 mΩ"},
                {"resistance_ohm", 2.25, "2.25 Ω"},
                {"inductance_q_h", 0.00047, "470 µH"},
                {"inductance_q_h", 0.0047, "4.7 mH"},
                {"flux_linkage_wb", 0.0215, "21.5 mWb"},
                {"speed_mech_rad_s", 15.0, "143.2 rpm"},
                {"speed_rad_s", 180.0, "180 rad/s"},
                {"margin_rad", 1.0, "57.3°"},
                {"pwm_hz", 20000.0, "20 kHz"},
                {"bandwidth_hz", 909.5, "909.5 Hz"},
                {"rise_s", 0.0021, "2.1 ms"},
                {"latency_s", 3.2e-5, "32 µs"},
                {"offset_a", -0.0164, "-16.4 mA"},
                {"current_a", 14.0, "14 A"},
                {"clipped_share", 0.031, "3.1 %"},
                {"inertia_kg_m2", 0.085, "0.085 kg m²"},
                {"inertia_kg_m2", 2.5e-5, "25 kg mm²"},
                {"torque_nm", 0.05, "50 mN m"},
                {"count", 12.0, "12"},
                {"current_a", (double)NAN, "-"},
                {"current_a", (double)INFINITY, "-"}};
    for (size_t n = 0; n < G_N_ELEMENTS(rows); n++) {
        cvk_doc *doc = cvk_doc_new();
        char *wanted = g_strdup_printf("it  %s\n", rows[n].text);
        cvk_doc_number(doc, rows[n].key, "it", rows[n].value);
        assert_text(doc, wanted);
        g_free(wanted);
    }
}
END_TEST

/* Over all sizes: no exponent, no minus before a zero, nothing that is no number. */
START_TEST(numbers_are_as_people_write_them)
{
    for (int power = -9; power < 9; power++) {
        for (int n = -99; n < 100; n += 3) {
            const double value = n * pow(10.0, power) / 10.0;
            for (int significant = 1; significant < 7; significant++) {
                const char *text = digits(value, significant);
                const gboolean usual = value == 0.0 || fabs(value) >= 1e-6;
                ck_assert_msg(!usual || strpbrk(text, "en") == NULL, "%s", text);
                ck_assert_str_ne(text, "-0");
                ck_assert_msg(strncmp(text, "-0.", 3) != 0 || strspn(text, "-0.") < strlen(text),
                              "%s", text);
                const double off = fabs(g_ascii_strtod(text, NULL) - value);
                ck_assert_msg(off <= 0.5001 * fabs(value) * pow(10.0, 1 - significant), "%g: %s",
                              value, text);
            }
        }
    }
}
END_TEST

START_TEST(intervals_stand_in_columns)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_begin(doc, "motor", "Motor");
    cvk_doc_interval(doc, "resistance_ohm", "resistance", 0.1688, 0.1665, 0.1712);
    cvk_doc_remark(doc, "±1.2 %%");
    cvk_doc_interval(doc, "flux_linkage_wb", "flux", 0.0215, 0.02142, 0.02158);
    cvk_doc_interval(doc, "inertia_kg_m2", "inertia", (double)NAN, 0.0, 1.0);
    cvk_doc_text(doc, "name", "name", "wheel");
    cvk_doc_end(doc);
    assert_text(doc, "Motor\n"
                     "  resistance   168.8 mΩ  [166.5 .. 171.2]    ±1.2 %\n"
                     "  flux        21.500 mWb [21.420 .. 21.580]\n"
                     "  inertia     -\n"
                     "  name        wheel\n");
}
END_TEST

START_TEST(tables_have_one_unit_for_a_column)
{
    static const double current_a[] = {0.05, 12.5, (double)NAN};
    static const char *const words[] = {"idle", "loaded", ""};
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_table(doc, "cases", "Cases");
    for (int n = 0; n < 3; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_number(doc, "current_a", "current", current_a[n]);
        cvk_doc_text(doc, "what", "what", words[n]);
        cvk_doc_number(doc, "secret", NULL, 7.0);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    assert_text(doc, "Cases\n"
                     "  current  what\n"
                     "        A\n"
                     "     0.05  idle\n"
                     "     12.5  loaded\n"
                     "        -\n");
}
END_TEST

/* Words that are longer than a line go on below where they began. */
START_TEST(long_texts_go_on_below)
{
    GString *words = g_string_new(NULL);
    for (int n = 0; n < 60; n++) {
        g_string_append_printf(words, "%sword", n > 0 ? " " : "");
    }
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_text(doc, "why", "because", words->str);
    char *text = cvk_doc_as_text(doc), **lines = g_strsplit(text, "\n", -1);
    ck_assert(g_str_has_prefix(lines[0], "because  word"));
    ck_assert(g_str_has_prefix(lines[1], "         word"));
    for (int n = 0; lines[n] != NULL; n++) {
        ck_assert_uint_le(strlen(lines[n]), 100);
    }
    g_strfreev(lines);
    g_free(text);
    g_string_free(words, TRUE);
    cvk_doc_free(doc);
}
END_TEST

/* Keys and SI units; what is not known is null; what is for people only is not there. */
START_TEST(machines_read_si)
{
    static const double list[] = {1.0, (double)NAN};
    static const char *const names[] = {"a", "b"};
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_title(doc, "Title");
    cvk_doc_number(doc, "speed_mech_rad_s", "speed", 1.5);
    cvk_doc_number(doc, "turns", NULL, 3.0);
    cvk_doc_number(doc, "lost_s", "lost", (double)INFINITY);
    cvk_doc_text(doc, NULL, "for people", "x");
    cvk_doc_text(doc, "none", "none", NULL);
    cvk_doc_flag(doc, "good", "good", true);
    cvk_doc_words(doc, "fine", "bad");
    cvk_doc_numbers(doc, "list", NULL, list, 2);
    cvk_doc_texts(doc, "names", NULL, names, 2);
    cvk_doc_begin(doc, NULL, "only people see this group");
    cvk_doc_interval(doc, "r_ohm", "r", 1.0, 0.5, 1.5);
    cvk_doc_also_text(doc, "from", "a log");
    cvk_doc_interval(doc, "l_h", "l", (double)NAN, 0.0, 0.0);
    cvk_doc_end(doc);
    cvk_doc_table(doc, "named", NULL);
    cvk_doc_row(doc, "flux", "flux");
    cvk_doc_number(doc, "x", "x", 1.0);
    cvk_doc_end(doc);
    cvk_doc_end(doc);
    cvk_doc_list(doc, "empty");
    cvk_doc_end(doc);
    assert_json(doc, "{\"speed_mech_rad_s\":1.5,\"turns\":3,\"lost_s\":null,\"none\":null,"
                     "\"good\":true,\"list\":[1,null],\"names\":[\"a\",\"b\"],"
                     "\"r_ohm\":{\"value\":1,\"low\":0.5,\"high\":1.5,\"from\":\"a log\"},"
                     "\"l_h\":null,\"named\":{\"flux\":{\"x\":1}},\"empty\":[]}");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, people_read_customary_units);
    tcase_add_test(tests, numbers_are_as_people_write_them);
    tcase_add_test(tests, intervals_stand_in_columns);
    tcase_add_test(tests, tables_have_one_unit_for_a_column);
    tcase_add_test(tests, long_texts_go_on_below);
    tcase_add_test(tests, machines_read_si);
}

int main(void)
{
    return run_suite("document", add);
}
