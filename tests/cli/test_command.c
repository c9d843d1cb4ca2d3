/* SPDX-License-Identifier: Apache-2.0
 *
 * The corvak command and the examples, run as a user runs them.
 */
#include "command.h"
#include "suite.h"

#include <glib.h>
#include <glib/gstdio.h>
#include <json-glib/json-glib.h>
#include <math.h>
#include <string.h>
#include <sys/wait.h>

static void make_logs(void)
{
    make_folder();
    static const char *const names[] = {"standstill", "spin", "coast"};
    for (int n = 0; n < 3; n++) {
        assert_status(run(CORVAK_COMMAND " record %s " CORVAK_DATA
                                         "/wheel.rig.yaml --seed 5 -o wheel-%s.csv",
                          names[n], names[n]),
                      0);
    }
}

/* ---- the way that the README shows ----------------------------------------------------------- */

START_TEST(alone_it_lists_its_verbs_in_order)
{
    assert_status(run(CORVAK_COMMAND), 0);
    const char *record = strstr(out, "  record "), *estimate = strstr(out, "  estimate "),
               *gains = strstr(out, "  gains ");
    ck_assert(record != NULL && estimate != NULL && gains != NULL && record < estimate &&
              estimate < gains);
    assert_status(run(CORVAK_COMMAND " --version"), 0);
    assert_says(out, "corvak 0.");
}
END_TEST

START_TEST(each_verb_explains_itself)
{
    assert_status(run(CORVAK_COMMAND), 0);
    char *list = g_strdup(out);
    char **lines = g_strsplit(list, "\n", -1);
    unsigned verbs = 0;
    for (unsigned n = 0; lines[n] != NULL; n++) {
        char *verb = NULL;
        if (g_str_has_prefix(lines[n], "  ")) {
            verb = g_strndup(lines[n] + 2, strcspn(lines[n] + 2, " "));
            verbs++;
            assert_status(run(CORVAK_COMMAND " %s --help", verb), 0);
            assert_says(out, "Example:");
            assert_says(out, verb);
        }
        g_free(verb);
    }
    ck_assert_uint_ge(verbs, 15);
    ck_assert_uint_le(verbs, 25);
    g_strfreev(lines);
    g_free(list);
}
END_TEST

static double member(JsonObject *root, const char *section, const char *key, const char *what)
{
    JsonObject *group = json_object_get_object_member(root, section);
    ck_assert_ptr_nonnull(group);
    ck_assert_msg(json_object_has_member(group, key), "no %s.%s", section, key);
    ck_assert_msg(!json_object_get_null_member(group, key), "%s.%s is null", section, key);
    return json_object_get_double_member(json_object_get_object_member(group, key), what);
}

START_TEST(three_logs_give_the_wheel)
{
    assert_status(run(CORVAK_COMMAND " estimate wheel-standstill.csv wheel-spin.csv "
                                     "wheel-coast.csv --json -o card.yaml --plot page.png"),
                  0);
    JsonParser *parser = json_parser_new();
    ck_assert(json_parser_load_from_data(parser, out, -1, NULL));
    JsonObject *root = json_node_get_object(json_parser_get_root(parser));
    static const struct {
        const char *key;
        double truth, per_cent;
    } expected[] = {{"resistance_ohm", 0.169, 1.5},
                    {"inductance_d_h", 320e-6, 3.0},
                    {"inductance_q_h", 470e-6, 3.0},
                    {"flux_linkage_wb", 0.0215, 0.7},
                    {"pole_pairs", 12, 0.0}};
    for (size_t n = 0; n < G_N_ELEMENTS(expected); n++) {
        double value = member(root, "motor", expected[n].key, "value");
        ck_assert_msg(fabs(100.0 * (value / expected[n].truth - 1.0)) <= expected[n].per_cent,
                      "%s is %g", expected[n].key, value);
        ck_assert_double_le(member(root, "motor", expected[n].key, "low"), value);
        ck_assert_double_ge(member(root, "motor", expected[n].key, "high"), value);
    }
    ck_assert_double_eq_tol(member(root, "inverter", "delay_periods", "value"), 1.0, 0.02);
    ck_assert_double_eq_tol(member(root, "inverter", "dead_time_voltage_v", "value"), 0.272, 0.01);
    ck_assert_double_eq_tol(member(root, "motor", "inertia_kg_m2", "value"), 0.085, 0.003);
    JsonObject *motor = json_object_get_object_member(root, "motor");
    ck_assert(json_object_get_null_member(motor, "resistance_25degc_ohm"));
    JsonObject *missing = json_object_get_object_member(root, "missing");
    ck_assert(json_object_has_member(missing, "resistance_25degc_ohm"));
    ck_assert(json_object_has_member(json_object_get_object_member(root, "saturation"),
                                     "inductance_q_square_per_a2"));
    ck_assert_ptr_nonnull(json_object_get_array_member(root, "log"));
    g_object_unref(parser);

    char *card = read_file("card.yaml"), *page = read_file("page.png");
    assert_says(card, "name: wheel");
    assert_says(card, " pole_pairs:\n value: 12\n");
    ck_assert_int_eq(memcmp(page, "\x89PNG", 4), 0);
    g_free(card);
    g_free(page);
}
END_TEST

START_TEST(the_table_is_for_people)
{
    assert_status(run(CORVAK_COMMAND
                      " estimate wheel-standstill.csv --compare " CORVAK_DATA
                      "/wheel.rig.yaml --why --name \"potter's wheel\" --plot page.svg"),
                  0);
    assert_says(out, "Motor card: potter's wheel");
    assert_says(out, "mΩ");
    assert_says(out, "line to line");
    assert_says(out, "inside");
    assert_says(out, "flux linkage: the motor does not turn in the logs: record a spin");
    ck_assert_str_eq(err, "");
    char *page = read_file("page.svg");
    assert_says(page, "<svg");
    g_free(page);
}
END_TEST

/* Quotes, blanks and commands in names are text, in the table and in the figure. */
START_TEST(awkward_names_stay_names)
{
    write_file("it's a log.csv", "", 0);
    char *text = read_file("wheel-standstill.csv");
    write_file("it's a log.csv", text, -1);
    g_free(text);
    assert_status(run(CORVAK_COMMAND
                      " estimate \"it's a log.csv\" --name \"`touch owned` 'q' %%s\" "
                      "--plot \"a b'c.png\" --json"),
                  0);
    assert_says(out, "`touch owned` 'q' %s");
    char *page = read_file("a b'c.png");
    ck_assert_int_eq(memcmp(page, "\x89PNG", 4), 0);
    g_free(page);
    char *owned = g_build_filename(dir, "owned", NULL);
    ck_assert(!g_file_test(owned, G_FILE_TEST_EXISTS));
    g_free(owned);
}
END_TEST

/* A log that shows one thing only still gives a whole page, with the reasons in the empty panels.
 */
START_TEST(a_page_shows_only_what_there_is)
{
    assert_status(run(CORVAK_COMMAND " estimate wheel-coast.csv --plot coast.svg"), 0);
    char *page = read_file("coast.svg");
    assert_says(page, "Flux circle");
    assert_says(page, "Speed, from the back-EMF");
    ck_assert_ptr_null(strstr(page, "DC levels"));
    ck_assert_ptr_null(strstr(page, "Step: measured"));
    g_free(page);
    assert_says(out, "pole pairs 12 (probability");
}
END_TEST

START_TEST(record_is_deterministic_and_prints_to_stdout)
{
    char *first = NULL;
    assert_status(run(CORVAK_COMMAND " record standstill " CORVAK_DATA "/wheel.rig.yaml --seed 5"),
                  0);
    first = read_file("wheel-standstill.csv");
    ck_assert_str_eq(first, out);
    assert_status(run(CORVAK_COMMAND " record standstill " CORVAK_DATA "/wheel.rig.yaml --seed 6"),
                  0);
    ck_assert_str_ne(first, out);
    g_free(first);
}
END_TEST

/* All four rigs of the studio are explained, and nothing about them is implausible. */
START_TEST(rigs_are_explained)
{
    static const char *const names[] = {"wheel", "blower", "mixer", "table"};
    for (int n = 0; n < 4; n++) {
        assert_status(run(CORVAK_COMMAND " rig " CORVAK_DATA "/%s.rig.yaml", names[n]), 0);
        assert_says(out, names[n]);
        assert_says(out, "Nothing implausible.");
    }
    assert_status(run(CORVAK_COMMAND " rig --json " CORVAK_DATA "/wheel.rig.yaml"), 0);
    JsonParser *parser = json_parser_new();
    ck_assert(json_parser_load_from_data(parser, out, -1, NULL));
    JsonObject *root = json_node_get_object(json_parser_get_root(parser));
    ck_assert_double_eq_tol(json_object_get_double_member(root, "torque_limit_nm"), 5.418, 1e-3);
    g_object_unref(parser);
}
END_TEST

START_TEST(an_implausible_rig_ends_with_status_1)
{
    char *path = g_build_filename(CORVAK_DATA, "wheel.rig.yaml", NULL), *text = NULL;
    ck_assert(g_file_get_contents(path, &text, NULL, NULL));
    write_file("odd.rig.yaml", text, -1);
    write_file("odd.tune.yaml",
               "tune_version: 1\nlimit:\n  current_a: 14\nprotect:\n  trip_current_a: 40\n", -1);
    assert_status(run(CORVAK_COMMAND " rig odd.rig.yaml"), 1);
    assert_says(out, "protect.trip_current_a 40 is beyond sensing.current_range_a 33");
    /* a section of before is read, and answered with where it belongs; the tune file goes first */
    char *old = g_strconcat(text, "drive:\n  trip_current_a: 41\n  current_limit_a: 14\n", NULL);
    write_file("old.rig.yaml", old, -1);
    assert_status(run(CORVAK_COMMAND " rig old.rig.yaml"), 1);
    assert_says(out, "protect.trip_current_a 41 is beyond");
    assert_says(err, "its section drive: is read as before, but belongs into a tune file");
    g_free(old);
    g_free(text);
    g_free(path);
}
END_TEST

/* The two tables of the controller, and a parameter that is changed by its key. */
START_TEST(tables_are_listed_and_parameters_set)
{
    assert_status(run(CORVAK_COMMAND " list parameters"), 0);
    assert_says(out, "current.bandwidth_hz");
    assert_says(out, "1 .. 12500");
    assert_status(run(CORVAK_COMMAND " list parameters start. --json"), 0);
    assert_says(out, "\"key\" : \"start.align_s\"");
    ck_assert_ptr_null(strstr(out, "bandwidth_hz"));
    assert_status(run(CORVAK_COMMAND " list signals"), 0);
    assert_says(out, "theta_flux");
    assert_status(run(CORVAK_COMMAND " list signals start_phase"), 0);
    assert_says(out, " 3 align");
    assert_status(run(CORVAK_COMMAND " list signals waltz"), 1);
    assert_status(run(CORVAK_COMMAND " list excitations spin"), 0);
    assert_says(out, "needs the rotor's angle");
    assert_status(run(CORVAK_COMMAND " list devices"), 0);
    assert_says(out, "tcp:HOST:PORT");
    assert_status(run(CORVAK_COMMAND " list signal"), 2);
    assert_says(err, "did you mean \"signals\"?");
    assert_status(run(CORVAK_COMMAND " list"), 2);
    static const char record[] =
        CORVAK_COMMAND " record steps " CORVAK_DATA "/wheel.rig.yaml -o steps.csv --parameter ";
    assert_status(run("%scurrent.bandwith_hz=500", record), 2);
    assert_says(err, "unknown parameter current.bandwith_hz; the closest is current.bandwidth_hz");
    assert_status(run("%scurrent.bandwidth_hz=-1", record), 2);
    assert_says(err, "current.bandwidth_hz is \"-1\"; allowed: 1 .. 12500 Hz");
    assert_status(run("%scurrent.bandwidth_hz=5000", record), 2);
    assert_says(err, "the control rate allows");
    assert_status(run("%slimit.current_a=30", record), 2);
    assert_says(err, "protect.trip_current_a against limit.current_a");
    assert_status(run("%sangle.source=observer -P motor.flux_linkage_wb=0", record), 2);
    assert_says(err, "motor.flux_linkage_wb contradicts speed");
}
END_TEST

START_TEST(the_rotor_sensor_can_be_left_out)
{
    assert_status(run(CORVAK_COMMAND " record spin --no-rotor-sensor " CORVAK_DATA
                                     "/table.rig.yaml -o blind.csv"),
                  0);
    char *log = read_file("blind.csv");
    ck_assert_ptr_null(strstr(log, "theta_m"));
    g_free(log);
    assert_status(run(CORVAK_COMMAND " estimate blind.csv"), 0);
    assert_says(out, "pole pairs: no rotor column");
    assert_says(out, "inertia; Coulomb friction; viscous friction: needs the torque");
}
END_TEST

/* A line at the head of the log says how often somebody has turned the shaft. */
START_TEST(counted_turns_in_the_head_tell_pole_pairs)
{
    assert_status(run(CORVAK_COMMAND " record coast --no-rotor-sensor --without unequal_magnets "
                                     "" CORVAK_DATA "/wheel.rig.yaml -o turned.csv"),
                  0);
    assert_status(run(CORVAK_COMMAND " estimate turned.csv --why"), 0);
    assert_says(out, "# shaft_turns: 10");
    assert_status(run(CORVAK_COMMAND " record coast --channels t,theta_m " CORVAK_DATA
                                     "/wheel.rig.yaml -o angle.csv"),
                  0);
    char *angle = read_file("angle.csv"), *log = read_file("turned.csv");
    double turns = 0.0, last = 0.0;
    for (char *line = strchr(angle, '\n'); line != NULL; line = strchr(line + 1, '\n')) {
        double t, now;
        if (sscanf(line + 1, "%lf,%lf", &t, &now) == 2) {
            double step = (now - last) / (2.0 * 3.14159265358979323846);
            turns += last != 0.0 ? step - round(step) : 0.0;
            last = now;
        }
    }
    char *headed = g_strdup_printf("# shaft_turns: %.0f\n%s", fabs(turns), log);
    write_file("turned.csv", headed, -1);
    assert_status(run(CORVAK_COMMAND " estimate turned.csv"), 0);
    assert_says(out, "pole pairs 12");
    g_free(headed);
    g_free(angle);
    g_free(log);
}
END_TEST

/* ---- wrong usage and damaged logs: status 2, and the message says what, where and the cure ----
 */

START_TEST(wrong_usage_is_explained)
{
    static const struct {
        const char *line, *words;
    } cases[] = {
        {"waltz", "there is no verb \"waltz\"; `corvak` alone"},
        {"estmate", "did you mean \"estimate\"?"},
        {"estimate", "name 1 to 64 logs"},
        {"estimate --nonsense x.csv", "--nonsense"},
        {"estimate --map ia=none wheel-spin.csv", "there is no column \"none\""},
        {"estimate --map ia wheel-spin.csv", "write COLUMN=NAME"},
        {"estimate --compare none.yaml wheel-spin.csv", "none.yaml: cannot be opened"},
        {"estimate --plot page.bmp wheel-standstill.csv", ".png or FILE.svg"},
        {"estimate -o no/dir/card.yaml wheel-standstill.csv", "no/dir/card.yaml"},
        {"rig", "name one rig file"},
        {"rig none.yaml", "none.yaml: cannot be opened"},
        {"record", "name one excitation"},
        {"record standstill", "name one excitation and a rig"},
        {"record waltz " CORVAK_DATA "/wheel.rig.yaml",
         "standstill, spin, coast, sweep, duty, steps"},
        {"record spin none.yaml", "none.yaml: cannot be opened"},
        {"record spin wheel-spin.csv", "wheel-spin.csv"},
        {"record spin --seed -4 " CORVAK_DATA "/wheel.rig.yaml", "0 and up"},
        {"record standstill " CORVAK_DATA "/wheel.rig.yaml -o no/dir/x.csv", "no/dir/x.csv"},
    };
    for (size_t n = 0; n < G_N_ELEMENTS(cases); n++) {
        assert_status(run(CORVAK_COMMAND " %s", cases[n].line), 2);
        assert_says(err, cases[n].words);
        const char *first = strstr(err, "corvak ");
        ck_assert_msg(first == NULL || strstr(first, "\ncorvak ") == NULL, "said twice: %s", err);
    }
    (void)run("sh -c 'mkfifo log.pipe; cat " CORVAK_DATA "/wheel-standstill.csv > log.pipe & "
              "timeout 60 " CORVAK_COMMAND " examine log.pipe'");
    assert_says(out, "(20 kHz)");
    assert_status(run("mkfifo pipe.yaml"), 0); /* a finished file must not be renamed over it */
    assert_status(run(CORVAK_COMMAND " estimate -o pipe.yaml wheel-standstill.csv"), 2);
    assert_says(err, "pipe.yaml: is there and not a file");
}
END_TEST

/* The standstill log with one sed-like change to each line, for damage that keeps its shape. */
static char **standstill_lines(void)
{
    char *text = read_file("wheel-standstill.csv");
    char **lines = split_lines(text);
    g_free(text);
    return lines;
}

enum { HEAD = 8 }; /* comment lines and the header row */

static void write_lines(const char *name, char **lines)
{
    char *text = g_strjoinv("\n", lines);
    write_file(name, text, -1);
    g_free(text);
}

START_TEST(unreadable_logs_end_with_status_2)
{
    static const struct {
        const char *text, *words;
        gssize length;
    } cases[] = {
        {"", "the file is empty", 0},
        {"t [s],ia [A],ib [A],ic [A],va [V],vb [V],vc [V]\n", "no data rows", -1},
        {"\x7f"
         "ELF\x02\x00\x00\x00",
         "binary", 8},
        {"t,ia,va,vb,vc\n0,1,2,3,4\n1e-4,1,2,3,4\n", "at least two of ia, ib, ic", -1},
        {"t,ia,ib\n0,1,2\n1e-4,1,2\n", "no voltages", -1},
        {"time stamp;current\n0;1\n", "--map", -1},
    };
    assert_status(run(CORVAK_COMMAND " estimate no-such-log.csv"), 2);
    assert_says(err, "no-such-log.csv: cannot be opened");
    for (size_t n = 0; n < G_N_ELEMENTS(cases); n++) {
        write_file("bad.csv", cases[n].text, cases[n].length);
        assert_status(run(CORVAK_COMMAND " estimate bad.csv"), 2);
        assert_says(err, cases[n].words);
        assert_says(err, "bad.csv");
    }
}
END_TEST

START_TEST(milliampere_headed_as_ampere_is_refused_with_the_cure)
{
    char **lines = standstill_lines();
    for (int n = HEAD; lines[n] != NULL && lines[n][0] != '\0'; n++) {
        char **cells = g_strsplit(lines[n], ",", -1);
        for (int c = 1; c <= 3; c++) {
            char *scaled = g_strdup_printf("%.1f", 1000.0 * g_ascii_strtod(cells[c], NULL));
            g_free(cells[c]);
            cells[c] = scaled;
        }
        g_free(lines[n]);
        lines[n] = g_strjoinv(",", cells);
        g_strfreev(cells);
    }
    write_lines("ma.csv", lines);
    assert_status(run(CORVAK_COMMAND " estimate ma.csv"), 2);
    assert_says(err, "head it `ia [mA]`");
    g_free(lines[HEAD - 1]);
    lines[HEAD - 1] = g_strdup("t [s],ia [mA],ib [mA],ic [mA],duty_a,duty_b,duty_c,vdc [V]");
    write_lines("ma.csv", lines);
    assert_status(run(CORVAK_COMMAND " estimate ma.csv"), 0);
    g_strfreev(lines);
}
END_TEST

/* NaN cells, a time jump and a cut last line: the log is usable, and the result says so. */
START_TEST(small_damage_becomes_findings)
{
    char **lines = standstill_lines();
    guint count = g_strv_length(lines);
    char *cut = strrchr(lines[count - 2], ',');
    *cut = '\0';
    g_clear_pointer(&lines[count - 1], g_free);
    for (int n = 0; n < 3; n++) {
        char **cells = g_strsplit(lines[1000 + 77 * n], ",", -1);
        g_free(cells[2]);
        cells[2] = g_strdup(n == 0 ? "nan" : "");
        g_free(lines[1000 + 77 * n]);
        lines[1000 + 77 * n] = g_strjoinv(",", cells);
        g_strfreev(cells);
    }
    for (guint n = 20000; n < count - 2; n++) {
        const char *rest = strchr(lines[n], ',');
        char *later = g_strdup_printf("%.6f%s", 0.5 + g_ascii_strtod(lines[n], NULL), rest);
        g_free(lines[n]);
        lines[n] = later;
    }
    write_lines("damaged.csv", lines);
    g_strfreev(lines);
    assert_status(run(CORVAK_COMMAND " estimate damaged.csv"), 0);
    assert_says(out, "3 cells are empty or not numbers, the first in line 1001: \"nan\"");
    assert_says(out, "time jumps forward");
    assert_says(out, "last line is cut off");
    const char *row = strstr(out, "resistance, phase");
    ck_assert_ptr_nonnull(row);
    ck_assert_double_eq_tol(g_ascii_strtod(row + strlen("resistance, phase"), NULL), 169.0, 1.7);
}
END_TEST

START_TEST(a_log_without_current_has_no_answer)
{
    GString *text = g_string_new("t,ia,ib,ic,va,vb,vc\n");
    for (int n = 0; n < 3000; n++) {
        g_string_append_printf(text, "%.5f,0.0,0.0,0.0,1.0,1.0,1.0\n", 5e-5 * n);
    }
    write_file("idle.csv", text->str, -1);
    g_string_free(text, TRUE);
    assert_status(run(CORVAK_COMMAND " estimate idle.csv"), 1);
    assert_says(out, "Not estimated:");
}
END_TEST

START_TEST(foreign_names_are_mapped)
{
    char **lines = standstill_lines();
    g_free(lines[HEAD - 1]);
    lines[HEAD - 1] = g_strdup("stamp,CH1,CH2,CH3,pwm1,pwm2,pwm3,supply");
    write_lines("foreign.csv", lines);
    g_strfreev(lines);
    assert_status(run(CORVAK_COMMAND " estimate foreign.csv"), 2);
    assert_says(err, "--map");
    assert_status(run(CORVAK_COMMAND
                      " estimate foreign.csv --map t=stamp --map ia=CH1 --map ib=CH2 "
                      "--map ic=CH3 --map duty_a=pwm1 --map duty_b=pwm2 "
                      "--map duty_c=pwm3 --map vdc=supply"),
                  0);
}
END_TEST

/* Some names are known: the rest is still guessed at. */
START_TEST(the_rest_of_a_header_is_proposed)
{
    char **lines = standstill_lines();
    g_free(lines[HEAD - 1]);
    lines[HEAD - 1] = g_strdup("t,ia,ib,ic,pwm1,duty_b,duty_c,vdc");
    write_lines("half.csv", lines);
    g_strfreev(lines);
    assert_status(run(CORVAK_COMMAND " estimate half.csv"), 2);
    assert_says(err, "no voltages");
    assert_says(out, "duty_a: 'pwm1'");
    write_file("half.yaml", out, -1);
    assert_status(run(CORVAK_COMMAND " estimate half.csv --mapping half.yaml"), 0);
}
END_TEST

/* One channel in milliampere beside two in ampere. */
START_TEST(a_channel_in_another_unit_is_named)
{
    char **lines = standstill_lines();
    for (char **line = lines + HEAD; *line != NULL && **line != '\0'; line++) {
        double t, ia;
        int length;
        if (sscanf(*line, "%lf,%lf%n", &t, &ia, &length) == 2) {
            char *scaled = g_strdup_printf("%.6f,%.2f%s", t, 1e3 * ia, *line + length);
            g_free(*line);
            *line = scaled;
        }
    }
    write_lines("units.csv", lines);
    g_strfreev(lines);
    assert_status(run(CORVAK_COMMAND " estimate units.csv --largest-current 1e5"), 2);
    assert_says(err, "ia is about");
    assert_says(err, "`ia [mA]`");
}
END_TEST

/* A card is that of the machine that the log names, whatever the file is called. */
START_TEST(a_card_is_named_after_the_machine)
{
    char *text = read_file("wheel-standstill.csv");
    write_file("tuesday-3.csv", text, -1);
    g_free(text);
    assert_status(run(CORVAK_COMMAND " estimate tuesday-3.csv"), 0);
    assert_says(out, "Motor card: wheel\n");
}
END_TEST

/* What a log's rig was changed by is in its head, and counts in the comparison. */
START_TEST(a_changed_rig_is_compared_with_itself)
{
    static const char *const names[] = {"changed.csv", "changed.h5"};
    for (size_t n = 0; n < G_N_ELEMENTS(names); n++) {
        assert_status(run(CORVAK_COMMAND " record standstill " CORVAK_DATA "/wheel.rig.yaml "
                                         "--set motor.resistance_ohm=0.3 --set "
                                         "motor.inductance_q_h=0.0006 --without dead_time -o %s",
                          names[n]),
                      0);
        assert_status(
            run(CORVAK_COMMAND " estimate %s --compare " CORVAK_DATA "/wheel.rig.yaml", names[n]),
            0);
        assert_says(out, "inside");
        ck_assert_msg(strstr(out, "OUTSIDE") == NULL, "%s", out);
    }
}
END_TEST

/* No exponents, no `nan`, no minus before a zero. */
START_TEST(numbers_are_for_people)
{
    static const char *const lines[] = {
        "estimate wheel-standstill.csv wheel-spin.csv -o numbers.card.yaml --why",
        "gains numbers.card.yaml " CORVAK_DATA "/wheel.rig.yaml --pwm",
        "range numbers.card.yaml " CORVAK_DATA "/wheel.rig.yaml",
        "rig " CORVAK_DATA "/blower.rig.yaml",
        "run " CORVAK_DATA "/wheel.rig.yaml " CORVAK_DATA "/throwing.scenario.yaml",
        "tune sim:" CORVAK_DATA "/wheel.rig.yaml -x steps"};
    write_file("steps", "start 150rpm\nstep speed 30rpm\n", -1);
    for (size_t n = 0; n < G_N_ELEMENTS(lines); n++) {
        ck_assert_int_lt(run(CORVAK_COMMAND " %s", lines[n]), 2);
        ck_assert_msg(g_regex_match_simple("[0-9]e[-+][0-9]|[^a-z](nan|inf)[^a-z]|-0(\\.0*)?[ %]",
                                           out, 0, 0) == FALSE,
                      "%s: %s", lines[n], out);
    }
}
END_TEST

/* ---- examples ----------------------------------------------------------------------------------
 */

START_TEST(examples_run)
{
    assert_status(run(CORVAK_EXAMPLES "/estimate_in_memory"), 0);
    assert_says(out, "resistance_ohm 0.31");
    assert_says(out, "flux_linkage_wb not visible");
    assert_status(run(CORVAK_EXAMPLES "/spin_the_wheel"), 0);
    assert_says(out, "t = 1.0 s 12"); /* 120 rpm asked for */
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, make_logs, remove_folder);
    tcase_add_test(tests, alone_it_lists_its_verbs_in_order);
    tcase_add_test(tests, each_verb_explains_itself);
    tcase_add_test(tests, three_logs_give_the_wheel);
    tcase_add_test(tests, the_table_is_for_people);
    tcase_add_test(tests, awkward_names_stay_names);
    tcase_add_test(tests, a_page_shows_only_what_there_is);
    tcase_add_test(tests, record_is_deterministic_and_prints_to_stdout);
    tcase_add_test(tests, the_rotor_sensor_can_be_left_out);
    tcase_add_test(tests, counted_turns_in_the_head_tell_pole_pairs);
    tcase_add_test(tests, rigs_are_explained);
    tcase_add_test(tests, an_implausible_rig_ends_with_status_1);
    tcase_add_test(tests, tables_are_listed_and_parameters_set);
    tcase_add_test(tests, wrong_usage_is_explained);
    tcase_add_test(tests, unreadable_logs_end_with_status_2);
    tcase_add_test(tests, milliampere_headed_as_ampere_is_refused_with_the_cure);
    tcase_add_test(tests, small_damage_becomes_findings);
    tcase_add_test(tests, a_log_without_current_has_no_answer);
    tcase_add_test(tests, foreign_names_are_mapped);
    tcase_add_test(tests, the_rest_of_a_header_is_proposed);
    tcase_add_test(tests, a_channel_in_another_unit_is_named);
    tcase_add_test(tests, a_card_is_named_after_the_machine);
    tcase_add_test(tests, a_changed_rig_is_compared_with_itself);
    tcase_add_test(tests, numbers_are_for_people);
    tcase_add_test(tests, examples_run);
}

int main(void)
{
    return run_suite("command", add);
}
