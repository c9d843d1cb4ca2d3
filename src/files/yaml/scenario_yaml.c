/* SPDX-License-Identifier: Apache-2.0
 *
 * Scenario files. Section by section: `what` comes first and decides which other keys there are.
 */
#include "corvak/files/scenario_yaml.h"

#include "text/number.h"
#include "text/text_file.h"
#include "yaml_doc.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

typedef struct scenario_reader {
    cvk_rig_scenario *scenario;
    const char *path;
    cvk_complaint *complaint;
    long line_of[CVK_SCENARIO_MOST]; /* where each event begins */
} scenario_reader;

static cvk_status unknown_kind(const scenario_reader *r, const char *value, long line)
{
    char kinds[700] = "";
    for (int n = 0; n < CVK_WHAT_COUNT; n++) {
        size_t used = strlen(kinds);
        snprintf(kinds + used, sizeof kinds - used, " %s",
                 cvk_rig_event_describe((cvk_rig_event_kind)n)->name);
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line, "what: %s is none of:%s",
                        value, kinds);
}

static cvk_status begin(scenario_reader *r, const char *section, const char *value, long line)
{
    cvk_rig_scenario *s = r->scenario;
    if (s->count == CVK_SCENARIO_MOST) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "more than %d events: make two scenarios of it", CVK_SCENARIO_MOST);
    }
    for (int n = 0; n < CVK_WHAT_COUNT; n++) {
        if (strcmp(cvk_rig_event_describe((cvk_rig_event_kind)n)->name, value) == 0) {
            cvk_rig_event *h = &s->item[s->count];
            *h = cvk_rig_event_default((cvk_rig_event_kind)n);
            snprintf(h->name, sizeof h->name, "%s", section);
            r->line_of[s->count++] = line;
            return CVK_OK;
        }
    }
    return unknown_kind(r, value, line);
}

/* Phases are letters in the file; the bus is the converter channel after them. */
static bool read_value(const char *key, const char *value, double *number)
{
    static const char *const channels[] = {"a", "b", "c", "bus"};
    if (strcmp(key, "phase") == 0 || strcmp(key, "to_phase") == 0) {
        for (int n = 0; n < 4; n++) {
            if (strcmp(channels[n], value) == 0) {
                *number = n;
                return true;
            }
        }
        return false;
    }
    const char *end = value + strlen(value), *after;
    return cvk_read_number(value, end, '.', number, &after) && after == end;
}

static cvk_status set_value(scenario_reader *r, const cvk_rig_what_key *key, double *place,
                            const char *value, long line)
{
    bool phase = strstr(key->name, "phase") != NULL;
    if (!read_value(key->name, value, place) || !(*place >= key->low && *place <= key->high)) {
        if (phase) {
            return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, line,
                                "%s is %s; allowed: a b c%s", key->name, value,
                                key->high > 2.0 ? " bus" : "");
        }
        return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, line,
                            "%s is %s; allowed: a number %g .. %g", key->name, value, key->low,
                            key->high);
    }
    return CVK_OK;
}

static cvk_status visit(void *context, const char *section, const char *key, const char *value,
                        long line)
{
    scenario_reader *r = context;
    cvk_rig_scenario *s = r->scenario;
    if (section[0] == '\0' && strcmp(key, "name") == 0) {
        snprintf(s->name, sizeof s->name, "%s", value);
        return CVK_OK;
    }
    if (section[0] == '\0') {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "unknown key %s; there are `name` and one section for each event", key);
    }
    if (strcmp(key, "what") == 0) {
        return begin(r, section, value, line);
    }
    cvk_rig_event *h = s->count > 0 ? &s->item[s->count - 1] : NULL;
    if (h == NULL || strncmp(h->name, section, sizeof h->name - 1) != 0) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "%s: the first key of an event is `what`", section);
    }
    const struct {
        cvk_rig_what_key key;
        double *place;
    } common[] = {
        {{"from_s", 0.0, 1e6}, &h->from_s},
        {{"for_s", 0.0, 1e6}, &h->for_s},
        {{"ramp_s", 0.0, 1e6}, &h->ramp_s},
        {{"above_speed_mech_rad_s", 0.0, 1e5}, &h->above_speed_mech_rad_s},
        {{"above_current_a", 0.0, 1e4}, &h->above_current_a},
    };
    for (size_t n = 0; n < sizeof common / sizeof common[0]; n++) {
        if (strcmp(common[n].key.name, key) == 0) {
            return set_value(r, &common[n].key, common[n].place, value, line);
        }
    }
    const cvk_rig_event_help *kind = cvk_rig_event_describe(h->what);
    for (int n = 0; n < CVK_SCENARIO_VALUES; n++) {
        if (kind->key[n].name != NULL && strcmp(kind->key[n].name, key) == 0) {
            return set_value(r, &kind->key[n], &h->value[n], value, line);
        }
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "unknown key %s of %s; allowed: from_s for_s ramp_s "
                        "above_speed_mech_rad_s above_current_a %s %s",
                        key, kind->name, kind->key[0].name != NULL ? kind->key[0].name : "",
                        kind->key[1].name != NULL ? kind->key[1].name : "");
}

/* Every value of a kind must have been given. */
static cvk_status check(const scenario_reader *r)
{
    for (unsigned n = 0; n < r->scenario->count; n++) {
        const cvk_rig_event *h = &r->scenario->item[n];
        const cvk_rig_event_help *kind = cvk_rig_event_describe(h->what);
        for (int k = 0; k < CVK_SCENARIO_VALUES; k++) {
            if (kind->key[k].name != NULL && isnan(h->value[k])) {
                return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, r->line_of[n],
                                    "%s: a %s needs %s", h->name, kind->name, kind->key[k].name);
            }
        }
        if (h->what == CVK_MISHAP_PHASE_SHORT && h->value[0] == h->value[1]) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, r->line_of[n],
                                "%s: phase and to_phase must be two different ones", h->name);
        }
    }
    return CVK_OK;
}

cvk_status cvk_scenario_file_parse(cvk_rig_scenario *scenario, const char *path, const char *text,
                                   size_t length, cvk_complaint *complaint)
{
    *scenario = (cvk_rig_scenario){.count = 0};
    scenario_reader r = {.scenario = scenario, .path = path, .complaint = complaint};
    cvk_status status = cvk_yaml_walk(path, text, length, visit, &r, complaint);
    if (status == CVK_OK && scenario->count == 0) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, path, 0, "nothing happens in this scenario");
    }
    return status == CVK_OK ? check(&r) : status;
}

cvk_status cvk_scenario_file_read(cvk_rig_scenario *scenario, const char *path,
                                  cvk_complaint *complaint)
{
    char text[CVK_TEXT_FILE_MOST];
    size_t length;
    cvk_status status = cvk_text_file_read(path, text, &length, complaint);
    return status == CVK_OK ? cvk_scenario_file_parse(scenario, path, text, length, complaint)
                            : status;
}
