/* SPDX-License-Identifier: Apache-2.0
 *
 * Motor cards on disk: what is written is read back, what a person breaks is refused with its line.
 */
#include "corvak/files/card_yaml.h"
#include "corvak/files/log_file.h"
#include "suite.h"

#include <stdio.h>
#include <string.h>

static cvk_complaint complaint;

static cvk_card full_card(void)
{
    cvk_card card = {.name = "wheel"};
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        double value = key == CVK_CARD_POLE_PAIRS ? 12.0 : 0.25 + key;
        card.entry[key] = (cvk_card_entry){.known = true,
                                           .by_hand = key == CVK_CARD_INERTIA,
                                           .value = value,
                                           .low = value - 0.125,
                                           .high = value + 0.125,
                                           .statistical_low = value - 0.0625,
                                           .statistical_high = value + 0.0625,
                                           .probability = key == CVK_CARD_POLE_PAIRS ? 0.5 : 0.0};
        snprintf(card.entry[key].from, sizeof card.entry[key].from, "log %d: a 'quoted' way", key);
    }
    card.entry[CVK_CARD_FLUX_LINKAGE] = (cvk_card_entry){.known = false};
    snprintf(card.entry[CVK_CARD_FLUX_LINKAGE].missing, CVK_CARD_TEXT, "it does not turn");
    return card;
}

START_TEST(what_is_written_is_read_back)
{
    const char *path = "test_card.tmp.yaml";
    const cvk_card card = full_card();
    cvk_card back;
    ck_assert_int_eq(cvk_card_file_write(&card, path, &complaint), CVK_OK);
    ck_assert_msg(cvk_card_file_read(&back, path, &complaint) == CVK_OK, "%s", complaint.text);
    ck_assert_str_eq(back.name, "wheel");
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        const cvk_card_entry *a = &card.entry[key], *b = &back.entry[key];
        ck_assert_int_eq(a->known, b->known);
        ck_assert_int_eq(a->by_hand, b->by_hand);
        ck_assert_double_eq(a->value, b->value);
        ck_assert_double_eq(a->low, b->low);
        ck_assert_double_eq(a->statistical_high, b->statistical_high);
        ck_assert_double_eq(a->probability, b->probability);
        ck_assert_str_eq(a->from, b->from);
        ck_assert_str_eq(a->missing, b->missing);
    }
    remove(path);
}
END_TEST

/* Wherever a copy was cut: even inside a number. */
START_TEST(a_cut_card_is_refused)
{
    const char *path = "test_card.tmp.yaml";
    static char text[65536];
    const cvk_card card = full_card();
    cvk_card back;
    ck_assert_int_eq(cvk_card_file_write(&card, path, &complaint), CVK_OK);
    FILE *stream = fopen(path, "rb");
    ck_assert_ptr_nonnull(stream);
    const size_t length = fread(text, 1, sizeof text, stream);
    fclose(stream);
    remove(path);
    ck_assert_int_eq(cvk_card_parse(&back, "c.yaml", text, length, &complaint), CVK_OK);
    for (size_t cut = 0; cut + 1 < length; cut++) {
        ck_assert_msg(cvk_card_parse(&back, "c.yaml", text, cut, &complaint) == CVK_BAD_FORMAT,
                      "cut at %zu of %zu", cut, length);
    }
}
END_TEST

/* A person need only write the value. */
START_TEST(a_bare_value_is_enough)
{
    static const char text[] = "name: mixer\nmotor:\n  pole_pairs: {value: 7, by_hand: counted}\n";
    cvk_card card;
    ck_assert_int_eq(cvk_card_parse(&card, "c.yaml", text, strlen(text), &complaint), CVK_OK);
    ck_assert(card.entry[CVK_CARD_POLE_PAIRS].known);
    ck_assert_double_eq(card.entry[CVK_CARD_POLE_PAIRS].low, 7.0);
    ck_assert(card.entry[CVK_CARD_POLE_PAIRS].by_hand);
    ck_assert(!card.entry[CVK_CARD_RESISTANCE].known);
}
END_TEST

START_TEST(broken_cards_are_refused_with_the_line)
{
    static const char *const cases[][2] = {
        {"motor:\n  resistance: {value: 1}\n", "c.yaml:2: "},
        {"motor:\n  resistance_ohm:\n    value: many\n", "c.yaml:3: "},
        {"motor:\n  resistance_ohm: {value: -1}\n", "resistance_ohm: value -1"},
        {"motor:\n  resistance_ohm: {value: 1, low: 2, high: 3}\n", "low <= value <= high"},
        {"motor:\n  pole_pairs: {value: 3.5}\n", "pole pairs whole"},
        {"inverter:\n  resistance_ohm: {value: 1}\n", "not a key of a card"},
        {"motor:\n  resistance_ohm: {value: 1, colour: red}\n", "colour"},
        {"motor:\n  resistance_ohm: {value: {deep: 1}}\n", "sections"},
        {"- a list\n", "lists"},
        {"", "no motor card"},
        {"name: wheel\n", "no motor card"},
        {"motor:\n  resistance_ohm:\n    value: 1\n    value: 2\n",
         "c.yaml:4: motor.resistance_ohm: value is given twice (first in line 3)"},
        {"motor:\n  resistance_ohm: {value: 1, low: -1e308, high: 2}\n",
         "allowed: -1e+12 .. 1e+12"},
    };
    cvk_card card;
    ck_assert_int_eq(
        cvk_card_parse(&card, "c.yaml", cases[_i][0], strlen(cases[_i][0]), &complaint),
        CVK_BAD_FORMAT);
    ck_assert_msg(strstr(complaint.text, cases[_i][1]) != NULL, "%s", complaint.text);
}
END_TEST

static cvk_status read_maps(const char *text, cvk_column_map *maps, size_t *count)
{
    const char *path = "test_maps.tmp.yaml";
    FILE *stream = fopen(path, "wb");
    ck_assert_ptr_nonnull(stream);
    fputs(text, stream);
    fclose(stream);
    *count = 0;
    cvk_status status = cvk_column_maps_read(maps, 4, count, path, &complaint);
    remove(path);
    return status;
}

START_TEST(mapping_files_name_columns)
{
    cvk_column_map maps[4];
    size_t count;
    ck_assert_int_eq(read_maps("ia: CH1 Current\nt: '?'\nva: U1\n", maps, &count), CVK_OK);
    ck_assert_uint_eq(count, 2);
    ck_assert_int_eq(maps[0].column, CVK_COLUMN_IA);
    ck_assert_str_eq(maps[0].name, "CH1 Current");
    ck_assert_int_eq(read_maps("amps: CH1\n", maps, &count), CVK_BAD_FORMAT);
    ck_assert_ptr_nonnull(strstr(complaint.text, "amps"));
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, what_is_written_is_read_back);
    tcase_add_test(tests, a_bare_value_is_enough);
    tcase_add_loop_test(tests, broken_cards_are_refused_with_the_line, 0, 13);
    tcase_add_test(tests, a_cut_card_is_refused);
    tcase_add_test(tests, mapping_files_name_columns);
}

int main(void)
{
    return run_suite("card", add);
}
