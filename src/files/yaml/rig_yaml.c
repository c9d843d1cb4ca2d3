/* SPDX-License-Identifier: Apache-2.0
 *
 * Rig files, driven by the table of fields in the rig layer.
 */
#include "corvak/files/rig_yaml.h"

#include "corvak/core/parameters.h"
#include "corvak/files/closest.h"
#include "text/number.h"
#include "text/text_file.h"
#include "yaml_doc.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define MOST_FIELDS 200
#define LONGEST_KEY 80 /* with its section */

typedef struct rig_reader {
    cvk_rig_config *config;
    const char *path;
    cvk_complaint *complaint;
    long line_of[MOST_FIELDS]; /* 0 until the field was read */
    bool named;
    bool old_drive; /* there is a section drive: */
    bool data_only; /* it is not to be simulated */
} rig_reader;

static cvk_status read_name(rig_reader *r, const char *value, long line)
{
    if (value[0] == '\0' || strlen(value) >= sizeof r->config->name) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "name: 1 to %zu characters are allowed", sizeof r->config->name - 1);
    }
    strcpy(r->config->name, value);
    r->named = true;
    return CVK_OK;
}

/* The key of this section that is most like `key`, or null when none is. */
static const cvk_rig_field *closest_key(const char *section, const char *key)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count), *best = NULL;
    size_t least = strlen(key) / 2u + 1u;
    for (unsigned n = 0; n < count; n++) {
        const size_t distance = cvk_name_distance(fields[n].name, key);
        if (strcmp(fields[n].section, section) == 0 && distance < least) {
            best = &fields[n];
            least = distance;
        }
    }
    return best;
}

/* ---- the drive section of before ------------------------------------------------------------ */

/* What a rig file said of the controller before there were tune files. */
static const struct {
    const char *key, *parameter;
} old_keys[] = {{"current_limit_a", "limit.current_a"},
                {"trip_current_a", "protect.trip_current_a"},
                {"bandwidth_hz", "current.bandwidth_hz"},
                {"resistance_ohm", "motor.resistance_ohm"},
                {"inductance_d_h", "motor.inductance_d_h"},
                {"inductance_q_h", "motor.inductance_q_h"},
                {"flux_linkage_wb", "motor.flux_linkage_wb"},
                {"speed_gain_a_s", "speed.gain_a_s"},
                {"speed_integral_gain_a", "speed.integral_gain_a"},
                {"speed_rad_s", "program.speed_rad_s"},
                {"plateau_s", "program.hold_s"}};

static cvk_status read_old_drive(rig_reader *r, const char *key, const char *value, long line)
{
    for (size_t n = 0; n < sizeof old_keys / sizeof old_keys[0]; n++) {
        if (strcmp(old_keys[n].key, key) != 0) {
            continue;
        }
        const cvk_parameter *row = cvk_parameter_named(old_keys[n].parameter);
        const char *end = value + strlen(value), *after;
        double number;
        r->old_drive = true;
        if (!cvk_read_number(value, end, '.', &number, &after) || after != end ||
            cvk_parameter_set(&r->config->tune, row, (float)number, NULL) != CVK_OK) {
            return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, line,
                                "drive.%s is \"%s\"; allowed: %g .. %g %s (%s)", key, value,
                                (double)row->low, (double)row->high, row->unit, row->help);
        }
        return CVK_OK;
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "unknown key drive.%s; what a controller is told stands in a tune file now "
                        "(corvak list parameters)",
                        key);
}

/* What stood in no file before, as it was then. */
static void finish_old_drive(cvk_rig_config *config)
{
    const double rate_hz = config->inverter.pwm_hz * config->inverter.updates_per_period;
    config->tune.protect.bus_min_v = (float)(0.5 * config->supply.bus_v);
    config->tune.protect.bus_max_v = (float)fmin(100.0, 1.5 * config->supply.bus_v);
    config->tune.rotor.bandwidth_hz = (float)(rate_hz / 200.0);
    config->tune.motor.pole_pairs = (int32_t)config->motor.pole_pairs;
}

/* Names of the sections, or of the keys of one. */
static void list_names(const char *section, char *list, size_t size)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    const char *last = "";
    list[0] = '\0';
    for (unsigned n = 0; n < count; n++) {
        const char *name = section[0] != '\0' ? fields[n].name : fields[n].section;
        bool wanted = section[0] == '\0' || strcmp(fields[n].section, section) == 0;
        if (wanted && strcmp(name, last) != 0) {
            size_t used = strlen(list);
            snprintf(list + used, size - used, " %s", name);
            last = name;
        }
    }
}

static cvk_status unknown_key(const rig_reader *r, const char *section, const char *key, long line)
{
    const cvk_rig_field *close = closest_key(section, key);
    const char *dot = section[0] != '\0' ? "." : "";
    if (close != NULL) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "unknown key %s%s%s; the closest is %s.%s (%s; allowed: %g .. %g, in "
                            "the unit that its name ends with)",
                            section, dot, key, section, close->name, close->meaning, close->low,
                            close->high);
    }
    char allowed[400];
    list_names(section, allowed, sizeof allowed);
    if (allowed[0] == '\0') {
        list_names("", allowed, sizeof allowed);
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "unknown section %s; there are: name%s", section, allowed);
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "unknown key %s%s%s; allowed here:%s", section, dot, key, allowed);
}

static cvk_status not_a_number(const rig_reader *r, const cvk_rig_field *field, const char *value,
                               long line)
{
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "%s.%s: \"%s\" is not a number; allowed: %g .. %g (%s), a bare number "
                        "in the unit that the key ends with",
                        field->section, field->name, value, field->low, field->high,
                        field->meaning);
}

static cvk_status not_a_choice(const rig_reader *r, const cvk_rig_field *field, const char *value,
                               long line)
{
    char names[200] = "";
    for (int n = 0; field->names[n] != NULL; n++) {
        size_t used = strlen(names);
        snprintf(names + used, sizeof names - used, " %s", field->names[n]);
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "%s.%s: \"%s\" is none of:%s (%s)", field->section, field->name, value,
                        names, field->meaning);
}

/* A value's text as a number; for a choice the index of its name. */
static bool read_value(const cvk_rig_field *field, const char *value, double *number)
{
    if (field->names == NULL) {
        const char *end = value + strlen(value), *after;
        return cvk_read_number(value, end, '.', number, &after) && after == end;
    }
    for (int n = 0; field->names[n] != NULL; n++) {
        if (strcmp(field->names[n], value) == 0) {
            *number = n;
            return true;
        }
    }
    return false;
}

static cvk_status visit(void *context, const char *section, const char *key, const char *value,
                        long line)
{
    rig_reader *r = context;
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    if (section[0] == '\0' && strcmp(key, "name") == 0) {
        return read_name(r, value, line);
    }
    if (strcmp(section, "drive") == 0) {
        return read_old_drive(r, key, value, line);
    }
    for (unsigned n = 0; n < count && n < MOST_FIELDS; n++) {
        if (strcmp(fields[n].section, section) != 0 || strcmp(fields[n].name, key) != 0) {
            continue;
        }
        double number;
        if (!read_value(&fields[n], value, &number)) {
            return fields[n].names != NULL ? not_a_choice(r, &fields[n], value, line)
                                           : not_a_number(r, &fields[n], value, line);
        }
        if (r->line_of[n] != 0) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                                "%s.%s is given twice (first in line %ld): keep one", section, key,
                                r->line_of[n]);
        }
        r->line_of[n] = line;
        cvk_rig_field_set(r->config, &fields[n], number);
        return CVK_OK;
    }
    return unknown_key(r, section, key, line);
}

/* All at once: nobody wants to hear of the next one only when this one is there. */
static cvk_status check_needed(const rig_reader *r, const cvk_rig_field *fields, unsigned count)
{
    char names[400] = "";
    size_t used = 0;
    for (unsigned n = 0; n < count && used + LONGEST_KEY < sizeof names; n++) {
        if (r->line_of[n] == 0 && isnan(fields[n].preset)) {
            used += (size_t)snprintf(names + used, sizeof names - used, "%s%s.%s",
                                     used > 0 ? ", " : "", fields[n].section, fields[n].name);
        }
    }
    return used == 0 ? CVK_OK
                     : cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                                    "missing: %s%s (corvak list keys tells what each is)", names,
                                    used + LONGEST_KEY < sizeof names ? "" : ", ...");
}

static cvk_status check(const rig_reader *r)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count), *refused = NULL;
    if (!r->named) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0, "name is missing");
    }
    if (check_needed(r, fields, count) != CVK_OK) {
        return CVK_BAD_FORMAT;
    }
    if (cvk_rig_check(r->config, &refused) != CVK_OK) {
        return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, r->line_of[refused - fields],
                            "%s.%s is %g; allowed: %g .. %g (%s)", refused->section, refused->name,
                            cvk_rig_field_value(r->config, refused), refused->low, refused->high,
                            refused->meaning);
    }
    const char *contradiction = cvk_rig_contradiction(r->config);
    if (contradiction == NULL && !r->data_only) {
        contradiction = cvk_rig_too_fast(r->config);
    }
    if (contradiction != NULL) {
        return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, 0, "%s", contradiction);
    }
    return CVK_OK;
}

static cvk_status parse(cvk_rig_config *config, const char *path, const char *text, size_t length,
                        bool data_only, cvk_complaint *complaint)
{
    *config = cvk_rig_config_default();
    rig_reader r = {.config = config, .path = path, .complaint = complaint, .data_only = data_only};
    cvk_status status = cvk_yaml_walk(path, text, length, visit, &r, complaint);
    if (status == CVK_OK) {
        status = check(&r);
    }
    if (status == CVK_OK && complaint != NULL) {
        complaint->text[0] = '\0';
    }
    if (status == CVK_OK && r.old_drive) {
        finish_old_drive(config);
        (void)cvk_complain(complaint, CVK_OK, path, 0,
                           "its section drive: is read as before, but belongs into a tune file "
                           "(--tune), whose keys corvak list parameters shows");
    }
    return status;
}

cvk_status cvk_rig_file_parse(cvk_rig_config *config, const char *path, const char *text,
                              size_t length, cvk_complaint *complaint)
{
    return parse(config, path, text, length, false, complaint);
}

static cvk_status read_file(cvk_rig_config *config, const char *path, bool data_only,
                            cvk_complaint *complaint)
{
    char text[CVK_TEXT_FILE_MOST];
    size_t length;
    cvk_status status = cvk_text_file_read(path, text, &length, complaint);
    return status == CVK_OK ? parse(config, path, text, length, data_only, complaint) : status;
}

cvk_status cvk_rig_file_read(cvk_rig_config *config, const char *path, cvk_complaint *complaint)
{
    return read_file(config, path, false, complaint);
}

cvk_status cvk_rig_file_read_data(cvk_rig_config *config, const char *path,
                                  cvk_complaint *complaint)
{
    return read_file(config, path, true, complaint);
}

cvk_status cvk_rig_set(cvk_rig_config *config, const char *assignment, cvk_complaint *complaint)
{
    char section[64];
    const char *dot = strchr(assignment, '.'), *equals = strchr(assignment, '=');
    if (dot == NULL || equals == NULL || equals < dot || strlen(assignment) >= sizeof section) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, assignment, 0,
                            "write SECTION.KEY=VALUE, such as inverter.fidelity=switched");
    }
    memcpy(section, assignment, (size_t)(equals - assignment));
    section[dot - assignment] = '\0';
    section[equals - assignment] = '\0';
    rig_reader r = {.config = config, .path = assignment, .complaint = complaint, .named = true};
    cvk_status status = visit(&r, section, section + (dot - assignment) + 1, equals + 1, 0);
    for (unsigned n = 0; n < MOST_FIELDS; n++) {
        r.line_of[n] = -1; /* nothing is missing: only ranges and contradictions are looked at */
    }
    return status == CVK_OK ? check(&r) : status;
}
