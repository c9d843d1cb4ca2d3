/* SPDX-License-Identifier: Apache-2.0
 *
 * A name is cut into words; words that say a quantity or a phase are kept, fillers are dropped.
 * What is left is a quantity with the phase that it belongs to.
 */
#include "column_guess.h"

#include <ctype.h>
#include <string.h>

typedef enum quantity { NOTHING, TIME, CURRENT, VOLTAGE, DUTY, ANGLE, SPEED, TEMPERATURE } quantity;

static const struct {
    const char *word;
    quantity of;
} words[] = {
    {"t", TIME},
    {"time", TIME},
    {"zeit", TIME},
    {"temps", TIME},
    {"tiempo", TIME},
    {"tempo", TIME},
    {"timestamp", TIME},
    {"tijd", TIME},
    {"i", CURRENT},
    {"cur", CURRENT},
    {"curr", CURRENT},
    {"current", CURRENT},
    {"strom", CURRENT},
    {"courant", CURRENT},
    {"corriente", CURRENT},
    {"corrente", CURRENT},
    {"stroom", CURRENT},
    {"volt", VOLTAGE},
    {"voltage", VOLTAGE},
    {"spannung", VOLTAGE},
    {"tension", VOLTAGE},
    {"tensione", VOLTAGE},
    {"spanning", VOLTAGE},
    {"duty", DUTY},
    {"pwm", DUTY},
    {"tastgrad", DUTY},
    {"dutycycle", DUTY},
    {"angle", ANGLE},
    {"theta", ANGLE},
    {"winkel", ANGLE},
    {"position", ANGLE},
    {"speed", SPEED},
    {"rpm", SPEED},
    {"drehzahl", SPEED},
    {"vitesse", SPEED},
    {"temp", TEMPERATURE},
    {"temperature", TEMPERATURE},
    {"temperatur", TEMPERATURE},
};

static const char *const fillers[] = {"phase",    "ph",     "motor", "meas", "measured",
                                      "act",      "actual", "raw",   "adc",  "filt",
                                      "filtered", "cycle",  "in",    "of"};

static const char *const bus_words[] = {"bus",     "dc",     "bat",  "batt",
                                        "battery", "supply", "link", "zk"};

typedef struct found {
    quantity of;
    int phase; /* 0, 1, 2; -1 for none */
    int line;  /* 0 ab, 1 bc, 2 ca; -1 */
    bool bus, number, unknown;
} found;

static bool is_one_of(const char *word, const char *const *list, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        if (strcmp(word, list[n]) == 0) {
            return true;
        }
    }
    return false;
}

/* a b c, u v w or 1 2 3; -1 for none. */
static int phase_of(char c)
{
    static const char letters[] = "abcuvw123";
    const char *at = c != '\0' ? strchr(letters, c) : NULL;
    return at != NULL ? (int)(at - letters) % 3 : -1;
}

static quantity quantity_of(const char *word)
{
    for (size_t n = 0; n < sizeof words / sizeof words[0]; n++) {
        if (strcmp(word, words[n].word) == 0) {
            return words[n].of;
        }
    }
    return NOTHING;
}

/* The quantity that begins a word such as ia, vbus, duty1; leaves the rest. */
static quantity quantity_before(const char *word, const char **rest)
{
    static const struct {
        const char *prefix;
        quantity of;
    } prefixes[] = {{"duty", DUTY},        {"pwm", DUTY},      {"current", CURRENT},
                    {"curr", CURRENT},     {"strom", CURRENT}, {"volt", VOLTAGE},
                    {"spannung", VOLTAGE}, {"i", CURRENT},     {"v", VOLTAGE},
                    {"u", VOLTAGE},        {"d", DUTY}};
    for (size_t n = 0; n < sizeof prefixes / sizeof prefixes[0]; n++) {
        size_t length = strlen(prefixes[n].prefix);
        if (strncmp(word, prefixes[n].prefix, length) == 0) {
            *rest = word + length;
            return prefixes[n].of;
        }
    }
    return NOTHING;
}

static void take_place(found *f, const char *rest)
{
    const char next = rest[0] != '\0' ? rest[1] : '\0';
    const int first = phase_of(rest[0]), second = phase_of(next);
    if (is_one_of(rest, bus_words, sizeof bus_words / sizeof bus_words[0])) {
        f->bus = true;
    } else if (first >= 0 && next == '\0' && f->phase < 0) {
        f->phase = first;
        f->number = isdigit((unsigned char)rest[0]) != 0;
    } else if (first >= 0 && second == (first + 1) % 3 && rest[2] == '\0') {
        f->line = first;
        f->number = isdigit((unsigned char)rest[0]) != 0;
    } else if (rest[0] != '\0' && !is_one_of(rest, fillers, sizeof fillers / sizeof fillers[0])) {
        f->unknown = true;
    }
}

static void take_word(found *f, const char *word)
{
    const char *rest = word;
    quantity whole = quantity_of(word);
    if (whole != NOTHING && f->of == NOTHING) {
        f->of = whole;
    } else if (f->of == NOTHING && word[1] != '\0' &&
               !is_one_of(word, bus_words, sizeof bus_words / sizeof bus_words[0]) &&
               !is_one_of(word, fillers, sizeof fillers / sizeof fillers[0]) &&
               (whole = quantity_before(word, &rest)) != NOTHING) {
        f->of = whole;
        take_place(f, rest);
    } else if (f->of == NOTHING && (strcmp(word, "v") == 0 || strcmp(word, "u") == 0)) {
        f->of = VOLTAGE;
    } else {
        take_place(f, word);
    }
}

static cvk_column column_of(const found *f)
{
    const bool phase = f->phase >= 0;
    switch (f->of) {
    case TIME:
        return CVK_COLUMN_T;
    case CURRENT:
        return phase    ? (cvk_column)(CVK_COLUMN_IA + f->phase)
               : f->bus ? CVK_COLUMN_IDC
                        : CVK_COLUMN_COUNT;
    case VOLTAGE:
        return f->line >= 0 ? (cvk_column)(CVK_COLUMN_VAB + f->line)
               : phase      ? (cvk_column)(CVK_COLUMN_VA + f->phase)
               : f->bus     ? CVK_COLUMN_VDC
                            : CVK_COLUMN_COUNT;
    case DUTY:
        return phase ? (cvk_column)(CVK_COLUMN_DUTY_A + f->phase) : CVK_COLUMN_COUNT;
    case SPEED:
        return CVK_COLUMN_SPEED_M;
    case ANGLE:
        return CVK_COLUMN_THETA_M;
    case TEMPERATURE:
        return CVK_COLUMN_TEMP;
    default:
        return f->bus ? CVK_COLUMN_VDC : CVK_COLUMN_COUNT;
    }
}

cvk_column cvk_guess_column(const char *name, size_t length, bool *sure)
{
    found f = {.phase = -1, .line = -1};
    char word[32] = "";
    size_t used = 0;
    for (size_t n = 0; n <= length; n++) {
        const unsigned char c = n < length ? (unsigned char)name[n] : 0;
        if (c == '[' || c == '(') {
            length = n; /* what follows is a unit */
        }
        if (n < length && isalnum(c) && used + 1 < sizeof word) {
            word[used++] = (char)tolower(c);
            continue;
        }
        f.unknown = f.unknown || c >= 128;
        word[used] = '\0';
        if (used > 0) {
            take_word(&f, word);
        }
        used = 0;
    }
    const cvk_column column = column_of(&f);
    const bool angular = f.of == ANGLE || f.of == SPEED || f.of == TEMPERATURE;
    *sure = column != CVK_COLUMN_COUNT && !f.unknown && !f.number && !angular && f.of != NOTHING;
    return column;
}
