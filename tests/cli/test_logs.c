/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs as people have them, through the command: foreign headers, pipes, time stamps; outputs that
 * must not be written; many motors at once; cards that are refined.
 */
#include "command.h"
#include "suite.h"

#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>

#define LOG CORVAK_DATA "/wheel-standstill.csv"
#define HEADER "t [s],ia [A],ib [A],ic [A],duty_a,duty_b,duty_c,vdc [V]"

/* The demo log with another header row, and each line changed by `change` (may be null). */
static void write_variant(const char *name, const char *header, void (*change)(GString *, char **))
{
    char *text = NULL;
    GString *out_text = g_string_new(NULL);
    ck_assert(g_file_get_contents(LOG, &text, NULL, NULL));
    char **lines = split_lines(text);
    for (int n = 0; lines[n] != NULL; n++) {
        if (lines[n][0] == '#' || lines[n][0] == '\0') {
            continue;
        }
        char **cells = g_strsplit(lines[n], ",", -1);
        if (lines[n][0] == 't') {
            g_string_append(out_text, header);
        } else if (change != NULL) {
            change(out_text, cells);
        } else {
            g_string_append(out_text, lines[n]);
        }
        g_string_append_c(out_text, '\n');
        g_strfreev(cells);
    }
    write_file(name, out_text->str, (gssize)out_text->len);
    g_string_free(out_text, TRUE);
    g_strfreev(lines);
    g_free(text);
}

static double resistance(void)
{
    JsonParser *parser = json_parser_new();
    ck_assert(json_parser_load_from_data(parser, out, -1, NULL));
    JsonObject *motor =
        json_object_get_object_member(json_node_get_object(json_parser_get_root(parser)), "motor");
    ck_assert(!json_object_get_null_member(motor, "resistance_ohm"));
    const double value = json_object_get_double_member(
        json_object_get_object_member(motor, "resistance_ohm"), "value");
    g_object_unref(parser);
    return value;
}

/* What cannot be examined says why, once, and no figure is "nan". */
START_TEST(examine_gives_one_reason)
{
    static const char *const rows[] = {"0,1,2,-3,4,5,6\n",
                                       "0,1,2,-3,4,5,6\n1e-4,1,2,-3,4,5,6\n2e-4,1,2,-3,4,5,6\n"};
    static const char *const reasons[] = {"a single row, at least 64", "only 0 of 3 rows"};
    for (int n = 0; n < 2; n++) {
        char *text = g_strconcat("t,ia,ib,ic,va,vb,vc\n", rows[n], NULL);
        write_file("short.csv", text, -1);
        g_free(text);
        assert_status(run(CORVAK_COMMAND " examine short.csv"), 1);
        const char *reason = strstr(out, reasons[n]);
        ck_assert_msg(reason != NULL && strstr(reason + 1, reasons[n]) == NULL, "%s", out);
        ck_assert_msg(strstr(out, "nan") == NULL, "%s", out);
    }
}
END_TEST

/* A line with pipes and redirections. */
static int shell(const char *line)
{
    write_file("line.sh", line, -1);
    return run("bash line.sh");
}

static double truth; /* what the demo log gives */

static void setup(void)
{
    make_folder();
    assert_status(run(CORVAK_COMMAND " estimate " LOG " --json"), 0);
    truth = resistance();
}

START_TEST(a_map_to_no_column_is_an_error)
{
    assert_status(run(CORVAK_COMMAND " estimate " LOG " --map ia=duty_x"), 2);
    assert_says(err, "no column \"duty_x\"");
    assert_says(err, "duty_c");
    assert_says(err, "Did you mean \"duty_a\"");
}
END_TEST

START_TEST(names_units_scales_and_offsets_are_mapped)
{
    write_variant("percent.csv", "t [s],I_Ü,ib [A],ic [A],Duty1 [%],duty_b,duty_c,vdc [V]", NULL);
    /* duties are shares although the header says %: the map's own scale undoes that */
    write_file("map.yaml", "ia: I_Ü\nduty_a:\n  name: 'Duty1 [%]'\n  scale: 100\n", -1);
    assert_status(run(CORVAK_COMMAND " estimate percent.csv --mapping map.yaml --json"), 0);
    ck_assert_double_eq_tol(resistance(), truth, 1e-9);
    write_variant("milli.csv", "t [s],CH1,ib [A],ic [A],duty_a,duty_b,duty_c,vdc [V]", NULL);
    assert_status(run(CORVAK_COMMAND " estimate milli.csv --map 'ia=CH1 [A]' --json"), 0);
    ck_assert_double_eq_tol(resistance(), truth, 1e-9);
    write_file("bad.yaml", "ia:\n  name: CH1\n  scale: many\n", -1);
    assert_status(run(CORVAK_COMMAND " estimate milli.csv --mapping bad.yaml"), 2);
    assert_says(err, "bad.yaml:3:");
}
END_TEST

static void to_counts(GString *text, char **cells)
{
    for (int n = 0; cells[n] != NULL; n++) {
        if (n >= 1 && n <= 3) { /* 2048 counts at no current, 0.02 A a count */
            g_string_append_printf(text, ",%.3f", g_ascii_strtod(cells[n], NULL) / 0.02 + 2048.0);
        } else {
            g_string_append_printf(text, "%s%s", n > 0 ? "," : "", cells[n]);
        }
    }
}

START_TEST(adc_counts_become_currents)
{
    write_variant("counts.csv", "t [s],A1,A2,A3,duty_a,duty_b,duty_c,vdc [V]", to_counts);
    write_file("counts.yaml",
               "ia:\n  name: A1\n  unit: mA\n  scale: 20\n  offset: -40960\n"
               "ib:\n  name: A2\n  scale: 0.02\n  offset: -40.96\n"
               "ic:\n  name: A3\n  scale: 0.02\n  offset: -40.96\n",
               -1);
    assert_status(run(CORVAK_COMMAND " estimate counts.csv --mapping counts.yaml --json"), 0);
    ck_assert_double_eq_tol(resistance(), truth, 1e-4 * truth);
}
END_TEST

START_TEST(common_names_are_recognised)
{
    static const char *const headers[] = {
        "Zeit [s],Strom U,Strom V,Strom W,Tastgrad U,Tastgrad V,Tastgrad W,Udc [V]",
        "Time (s),I_U (A),I_V (A),I_W (A),pwm_a,pwm_b,pwm_c,Vbus (V)",
        "t_s,Phase A current,Phase B current,Phase C current,duty u,duty v,duty w,DC link voltage",
    };
    for (size_t n = 0; n < G_N_ELEMENTS(headers); n++) {
        write_variant("names.csv", headers[n], NULL);
        assert_status(run(CORVAK_COMMAND " estimate names.csv --json"), 0);
        ck_assert_double_eq_tol(resistance(), truth, 1e-9);
    }
}
END_TEST

START_TEST(an_unknown_header_gets_a_ready_mapping)
{
    write_variant("unknown.csv", "stamp,current 1,current 2,current 3,K1,K2,K3,U batt", NULL);
    assert_status(shell(CORVAK_COMMAND " estimate unknown.csv > proposal.yaml"), 2);
    char *proposal = read_file("proposal.yaml");
    assert_says(proposal, "ia: 'current 1'   # a guess: check it");
    assert_says(proposal, "vdc: 'U batt'");
    assert_says(proposal, "# ?: 'K1'");
    g_free(proposal);
    ck_assert_int_eq(
        shell("sed -e \"s/# ?: 'stamp'/t: 'stamp'/\" -e \"s/# ?: 'K1'/duty_a: 'K1'/\" -e \"s/# ?: "
              "'K2'/duty_b: 'K2'/\" -e \"s/# ?: 'K3'/duty_c: 'K3'/\" proposal.yaml > mine.yaml"),
        0);
    assert_status(run(CORVAK_COMMAND " estimate unknown.csv --mapping mine.yaml --json"), 0);
    ck_assert_double_eq_tol(resistance(), truth, 1e-9);
}
END_TEST

static void stamp_line(GString *text, char **cells)
{
    const double t = g_ascii_strtod(cells[0], NULL) + 59.0; /* passes a minute */
    g_string_append_printf(text, "2026-02-28T23:%02d:%09.6f", 58 + (int)(t / 60.0), fmod(t, 60.0));
    for (int n = 1; cells[n] != NULL; n++) {
        g_string_append_printf(text, ",%s", cells[n]);
    }
}

START_TEST(time_stamps_and_pipes_are_read)
{
    write_variant("stamps.csv", HEADER, stamp_line);
    assert_status(shell("cat stamps.csv | " CORVAK_COMMAND " estimate - --json"), 0);
    ck_assert_double_eq_tol(resistance(), truth, 1e-5 * truth);
    assert_status(shell("gzip -c stamps.csv > s.csv.gz; zcat s.csv.gz | " CORVAK_COMMAND
                        " estimate - --json"),
                  0);
    assert_status(run(CORVAK_COMMAND " estimate s.csv.gz"), 2);
    assert_says(err, "zcat");
    write_file("thousands.csv", "t;ia;ib;va;vb;vc\n0;\"1 234,5\";2;3;4;5\n1;\"1 235,5\";2;3;4;5\n",
               -1);
    assert_status(run(CORVAK_COMMAND " estimate thousands.csv"), 2);
    assert_says(err, "thousands separator");
}
END_TEST

START_TEST(one_unreadable_log_is_left_out)
{
    assert_status(run(CORVAK_COMMAND " estimate none.csv " LOG " --json"), 0);
    ck_assert_double_eq_tol(resistance(), truth, 1e-9);
    assert_says(err, "none.csv: cannot be opened");
    assert_says(err, "left out");
}
END_TEST

START_TEST(outputs_are_checked_before_the_work)
{
    static const struct {
        const char *line, *words;
    } cases[] = {
        {"estimate mine.csv -o mine.csv", "would overwrite the input"},
        {"estimate mine.csv --plot link.png", "would overwrite the input"},
        {"estimate mine.csv --plot page.jpg", "FILE.png or FILE.svg"},
        {"examine mine.csv --plot no/folder/x.png", "no folder no/folder"},
        {"record standstill rig.yaml -o rig.yaml", "FILE.csv"},
        {"record standstill rig.yaml -o x.xlsx", "x.xlsx"},
        {"record standstill rig.yaml --plot x.pdf -o x.csv", "FILE.png or FILE.svg"},
        {"record standstill rig.yaml --scope va,ia --from 99 -o x.csv", "would be empty"},
        {"record standstill rig.yaml -P protect.bus_max_v=60 -o x.csv",
         "protect.bus_max_v is 60; the bus channel's range allows 38.8"},
        {"estimate mine.csv > /dev/full", "disk full"},
        {"record standstill rig.yaml > /dev/full", "disk full"},
    };
    ck_assert_int_eq(shell("cp " LOG " mine.csv; ln -s mine.csv link.png; cp " CORVAK_DATA
                           "/wheel.rig.yaml rig.yaml"),
                     0);
    char *before = read_file("mine.csv");
    for (size_t n = 0; n < G_N_ELEMENTS(cases); n++) {
        char *line = g_strconcat(CORVAK_COMMAND " ", cases[n].line, NULL);
        const int status = shell(line);
        g_free(line);
        ck_assert_msg(status == 2, "%s: status %d", cases[n].line, status);
        assert_says(err, cases[n].words);
    }
    char *after = read_file("mine.csv");
    ck_assert_str_eq(before, after);
    g_free(before);
    g_free(after);
    assert_status(shell(CORVAK_COMMAND " record standstill rig.yaml --decimate 50 -o - | head -1"),
                  0);
    assert_says(out, "# rig: wheel");
}
END_TEST

START_TEST(each_log_is_a_motor_of_its_own)
{
    assert_status(run(CORVAK_COMMAND " estimate --each " LOG " none.csv"), 1);
    char **lines = g_strsplit(out, "\n", -1);
    ck_assert_int_eq(g_strv_length(lines), 3); /* the last is empty */
    for (int n = 0; n < 2; n++) {
        JsonParser *parser = json_parser_new();
        ck_assert(json_parser_load_from_data(parser, lines[n], -1, NULL));
        JsonObject *line = json_node_get_object(json_parser_get_root(parser));
        ck_assert_int_eq(json_object_get_int_member(line, "status"), n == 0 ? 0 : 2);
        ck_assert(json_object_has_member(line, n == 0 ? "motor" : "error"));
        g_object_unref(parser);
    }
    g_strfreev(lines);
}
END_TEST

START_TEST(a_card_is_refined_by_later_logs)
{
    assert_status(run(CORVAK_COMMAND " estimate " LOG " -o one.yaml --name Töpfer"), 0);
    assert_status(run(CORVAK_COMMAND " record coast " CORVAK_DATA "/wheel.rig.yaml -o coast.csv"),
                  0);
    assert_status(run(CORVAK_COMMAND " estimate coast.csv --refine one.yaml -o two.yaml"), 0);
    assert_says(out, "resistance, phase");
    assert_says(out, "flux linkage");
    char *card = read_file("two.yaml");
    assert_says(card, "wheel-standstill.csv");
    assert_says(card, "coast.csv");
    g_free(card);
    assert_status(run(CORVAK_COMMAND " card one.yaml --set resistance_ohm=0.3 --reason guess -o "
                                     "other.yaml"),
                  0);
    assert_says(out, "by hand");
    ck_assert_int_eq(run("sed -i 's/by_hand/from/' other.yaml"), 0);
    assert_status(run(CORVAK_COMMAND " card one.yaml --join other.yaml -o joined.yaml"), 1);
    assert_says(out, "the cards contradict each other");
}
END_TEST

/* What the table says stands in the document, too. */
START_TEST(the_document_holds_what_the_table_holds)
{
    assert_status(
        run(CORVAK_COMMAND " estimate " LOG " --json --compare " CORVAK_DATA "/wheel.rig.yaml"), 0);
    assert_says(out, "\"line_to_line\"");
    assert_says(out, "\"inductance_largest_h\"");
    assert_says(out, "\"comparison\"");
    assert_says(out, "\"inside\" : true");
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, setup, remove_folder);
    tcase_add_test(tests, examine_gives_one_reason);
    tcase_add_test(tests, a_map_to_no_column_is_an_error);
    tcase_add_test(tests, names_units_scales_and_offsets_are_mapped);
    tcase_add_test(tests, adc_counts_become_currents);
    tcase_add_test(tests, common_names_are_recognised);
    tcase_add_test(tests, an_unknown_header_gets_a_ready_mapping);
    tcase_add_test(tests, time_stamps_and_pipes_are_read);
    tcase_add_test(tests, one_unreadable_log_is_left_out);
    tcase_add_test(tests, outputs_are_checked_before_the_work);
    tcase_add_test(tests, each_log_is_a_motor_of_its_own);
    tcase_add_test(tests, a_card_is_refined_by_later_logs);
    tcase_add_test(tests, the_document_holds_what_the_table_holds);
}

int main(void)
{
    return run_suite("logs", add);
}
