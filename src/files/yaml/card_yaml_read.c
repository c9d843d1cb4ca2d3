/* SPDX-License-Identifier: Apache-2.0
 *
 * Reads motor cards. A card is edited by people: unknown keys, numbers out of range and intervals
 * that do not hold their value are refused with their line.
 */
#include "corvak/files/card_yaml.h"
#include "text/number.h"
#include "text/text_file.h"
#include "yaml_doc.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define LARGEST_FIGURE 1e12 /* of a motor, in any unit of a card */

/* Words of an entry, the figures first. */
enum { VALUE, FIGURES = 6, FROM = FIGURES, MISSING, WORDS };

typedef struct card_reader {
    cvk_card *card;
    const char *path;
    cvk_complaint *complaint;
    long line_of[CVK_CARD_COUNT];
    long first[CVK_CARD_COUNT][WORDS]; /* the line of each word of an entry */
} card_reader;

static const char *section_of(cvk_card_key key)
{
    return key < CVK_CARD_MOTOR_COUNT ? "motor"
                                      : (key < CVK_CARD_INVERTER_COUNT ? "inverter" : "saturation");
}

/* "motor.resistance_ohm" */
static cvk_card_key key_of_section(const char *section)
{
    const char *dot = strchr(section, '.');
    const cvk_card_key key = dot != NULL ? cvk_card_key_of(dot + 1) : CVK_CARD_COUNT;
    const size_t length = dot != NULL ? (size_t)(dot - section) : 0;
    if (key == CVK_CARD_COUNT || strlen(section_of(key)) != length ||
        strncmp(section_of(key), section, length) != 0) {
        return CVK_CARD_COUNT;
    }
    return key;
}

static cvk_status read_figure(const card_reader *r, const char *section, const char *name,
                              const char *value, long line, double *out)
{
    const char *end;
    if (!cvk_read_number(value, value + strlen(value), '.', out, &end) || *end != '\0' ||
        !isfinite(*out)) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "%s: %s: \"%.40s\" is not a number", section, name, value);
    }
    if (fabs(*out) > LARGEST_FIGURE) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "%s: %s is %g; allowed: -%g .. %g", section, name, *out, LARGEST_FIGURE,
                            LARGEST_FIGURE);
    }
    return CVK_OK;
}

/* CVK_BAD_FORMAT when the word stood there before. */
static cvk_status note_word(card_reader *r, cvk_card_key key, int word, const char *section,
                            const char *name, long line)
{
    long *first = &r->first[key][word];
    if (*first > 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "%s: %s is given twice (first in line %ld): keep one", section, name,
                            *first);
    }
    *first = line;
    return CVK_OK;
}

static cvk_status on_scalar(void *context, const char *section, const char *name, const char *value,
                            long line)
{
    card_reader *r = context;
    if (section[0] == '\0' && strcmp(name, "name") == 0) {
        snprintf(r->card->name, sizeof r->card->name, "%s", value);
        return CVK_OK;
    }
    const cvk_card_key key = key_of_section(section);
    if (key == CVK_CARD_COUNT) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "%s%s%s: not a key of a card; sections are motor, inverter and "
                            "saturation, with keys such as resistance_ohm",
                            section, section[0] != '\0' ? ": " : "", name);
    }
    cvk_card_entry *entry = &r->card->entry[key];
    const struct {
        const char *name;
        double *figure;
    } figures[FIGURES] = {{"value", &entry->value},
                          {"low", &entry->low},
                          {"high", &entry->high},
                          {"statistical_low", &entry->statistical_low},
                          {"statistical_high", &entry->statistical_high},
                          {"probability", &entry->probability}};
    r->line_of[key] = line;
    for (size_t n = 0; n < sizeof figures / sizeof figures[0]; n++) {
        if (strcmp(name, figures[n].name) == 0) {
            const cvk_status status = note_word(r, key, (int)n, section, name, line);
            return status == CVK_OK ? read_figure(r, section, name, value, line, figures[n].figure)
                                    : status;
        }
    }
    if (strcmp(name, "from") == 0 || strcmp(name, "by_hand") == 0) {
        entry->by_hand = name[0] == 'b';
        snprintf(entry->from, sizeof entry->from, "%s", value);
        return note_word(r, key, FROM, section, name, line);
    }
    if (strcmp(name, "missing") == 0) {
        snprintf(entry->missing, sizeof entry->missing, "%s", value);
        return note_word(r, key, MISSING, section, name, line);
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "%s: %s: an entry has value, low, high, statistical_low, statistical_high, "
                        "probability, and from or by_hand; or missing",
                        section, name);
}

/* What a person leaves out: an interval of no width, the statistical part like the whole. */
static void complete(cvk_card_entry *entry)
{
    const bool no_interval = entry->low == 0.0 && entry->high == 0.0;
    entry->known = true;
    entry->low = no_interval ? entry->value : entry->low;
    entry->high = no_interval ? entry->value : entry->high;
    if (entry->statistical_low == 0.0 && entry->statistical_high == 0.0) {
        entry->statistical_low = entry->low;
        entry->statistical_high = entry->high;
    }
}

static cvk_status check(const card_reader *r)
{
    bool any = false;
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        any = any || r->first[key][VALUE] > 0 || r->card->entry[key].missing[0] != '\0';
    }
    if (!any) {
        return cvk_complain(
            r->complaint, CVK_BAD_FORMAT, r->path, 0,
            "this is no motor card: it has no entry, such as motor: resistance_ohm: "
            "value (corvak estimate -o writes cards)");
    }
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        cvk_card_entry *entry = &r->card->entry[key];
        cvk_card trial;
        if (r->first[key][VALUE] == 0) {
            continue;
        }
        complete(entry);
        trial = *r->card;
        if (cvk_card_set(&trial, (cvk_card_key)key, entry->value, entry->low, entry->high, "") !=
            CVK_OK) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, r->line_of[key],
                                "%s: value %g with %g .. %g: low <= value <= high is needed, and a "
                                "value that can be (positive; pole pairs whole)",
                                cvk_card_key_name((cvk_card_key)key), entry->value, entry->low,
                                entry->high);
        }
    }
    return CVK_OK;
}

cvk_status cvk_card_parse(cvk_card *card, const char *path, const char *text, size_t length,
                          cvk_complaint *complaint)
{
    card_reader r = {.card = card, .path = path, .complaint = complaint};
    *card = (cvk_card){.name = ""};
    cvk_status status = cvk_yaml_walk_levels(path, text, length, 3, on_scalar, &r, complaint);
    return status == CVK_OK ? check(&r) : status;
}

cvk_status cvk_card_file_read(cvk_card *card, const char *path, cvk_complaint *complaint)
{
    char text[CVK_TEXT_FILE_MOST];
    size_t length = 0;
    cvk_status status = cvk_text_file_read(path, text, &length, complaint);
    return status == CVK_OK ? cvk_card_parse(card, path, text, length, complaint) : status;
}
