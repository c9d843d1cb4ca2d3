/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs of a physics that is not ours: bench/spice.py has simulated them edge by edge with ngspice.
 * The estimates hold there too.
 */
#include "command.h"
#include "suite.h"

#include <json-glib/json-glib.h>
#include <math.h>

/* As spice.py has the motors; the resistance with one transistor in series. */
static const struct {
    const char *name;
    double r, l_d, l_q, flux;
} motors[] = {{"middle", 0.094, 70e-6, 70e-6, 7.0e-3},
              {"large", 0.508, 0.7e-3, 1.1e-3, 0.020},
              {"small", 0.022, 6.0e-6, 7.5e-6, 1.7e-3}};

static JsonParser *parser;

/* Runs `corvak estimate` on what the file holds; its `motor`. */
static JsonObject *estimate(const char *file)
{
    assert_status(run("sh -c 'gzip -dc " CORVAK_SOURCE "/tests/data/%s.csv.gz > log.csv'", file),
                  0);
    assert_status(run(CORVAK_COMMAND " estimate --json log.csv"), 0);
    ck_assert(json_parser_load_from_data(parser, out, -1, NULL));
    JsonObject *root = json_node_get_object(json_parser_get_root(parser));
    return json_object_get_object_member(root, "motor");
}

static void holds(JsonObject *motor, const char *key, double truth, double share)
{
    JsonObject *entry = json_object_get_object_member(motor, key);
    ck_assert_msg(entry != NULL, "%s is open", key);
    const double value = json_object_get_double_member(entry, "value");
    ck_assert_msg(fabs(value / truth - 1.0) < share, "%s is %g, not %g", key, value, truth);
    ck_assert_double_le(json_object_get_double_member(entry, "low"), truth);
    ck_assert_double_ge(json_object_get_double_member(entry, "high"), truth);
}

START_TEST(a_held_motor_is_estimated)
{
    char *file = g_strconcat(motors[_i].name, "-standstill", NULL);
    parser = json_parser_new();
    JsonObject *motor = estimate(file);
    holds(motor, "resistance_ohm", motors[_i].r, 0.01);
    holds(motor, "inductance_d_h", motors[_i].l_d, 0.003);
    holds(motor, "inductance_q_h", motors[_i].l_q, 0.003);
    g_object_unref(parser);
    g_free(file);
}
END_TEST

/* Driven, nothing held, no rotor sensor: the ripple is as large as the current. */
START_TEST(a_driven_motor_shows_its_winding)
{
    parser = json_parser_new();
    JsonObject *motor = estimate("middle-spin");
    holds(motor, "flux_linkage_wb", motors[0].flux, 0.002);
    holds(motor, "resistance_ohm", motors[0].r, 0.01);
    holds(motor, "inductance_q_h", motors[0].l_q, 0.015); /* the speed goes up and down in ramps */
    holds(motor, "inductance_d_h", motors[0].l_d, 0.015);
    /* 40 kHz and 7 uH: the ripple is five times the current; the bus sags behind 6 mOhm */
    motor = estimate("small-spin");
    holds(motor, "flux_linkage_wb", motors[2].flux, 0.005);
    holds(motor, "resistance_ohm", motors[2].r, 0.05);
    holds(motor, "inductance_d_h", motors[2].l_d, 0.03);
    holds(motor, "inductance_q_h", motors[2].l_q, 0.015);
    g_object_unref(parser);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_unchecked_fixture(tests, make_folder, remove_folder);
    tcase_add_loop_test(tests, a_held_motor_is_estimated, 0, 2);
    tcase_add_test(tests, a_driven_motor_shows_its_winding);
}

int main(void)
{
    return run_suite("another circuit", add);
}
