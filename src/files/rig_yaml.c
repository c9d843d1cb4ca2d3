/* SPDX-License-Identifier: Apache-2.0
 *
 * Rig files, driven by the table of fields in the rig layer.
 */
#include "corvak/files/rig_yaml.h"

#include "number.h"
#include "yaml_doc.h"

#include <stdio.h>
#include <string.h>

#define MOST_FIELDS 64
#define MOST_BYTES 65536u

typedef struct rig_reader {
    cvk_rig_config *config;
    const char *path;
    cvk_complaint *complaint;
    long line_of[MOST_FIELDS]; /* 0 until the field was read */
    bool named;
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

static cvk_status unknown_key(const rig_reader *r, const char *section, const char *key, long line)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    char allowed[300] = "";
    for (unsigned n = 0; n < count; n++) {
        size_t used = strlen(allowed);
        if (strcmp(fields[n].section, section) == 0) {
            snprintf(allowed + used, sizeof allowed - used, " %s", fields[n].name);
        }
    }
    if (allowed[0] == '\0') {
        snprintf(allowed, sizeof allowed,
                 " name motor shaft inverter supply sensing rotor_sensor "
                 "drive (sections; keys belong into one)");
    }
    return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                        "unknown key %s%s%s; allowed here:%s", section,
                        section[0] != '\0' ? "." : "", key, allowed);
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
    for (unsigned n = 0; n < count && n < MOST_FIELDS; n++) {
        if (strcmp(fields[n].section, section) != 0 || strcmp(fields[n].name, key) != 0) {
            continue;
        }
        const char *end = value + strlen(value), *after;
        double number;
        if (!cvk_read_number(value, end, '.', &number, &after) || after != end) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                                "%s.%s: \"%s\" is not a number; allowed: %g .. %g (%s)", section,
                                key, value, fields[n].low, fields[n].high, fields[n].meaning);
        }
        if (r->line_of[n] != 0) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                                "%s.%s is given twice (first in line %ld): keep one", section, key,
                                r->line_of[n]);
        }
        r->line_of[n] = line;
        *(double *)(void *)((char *)r->config + fields[n].offset) = number;
        return CVK_OK;
    }
    return unknown_key(r, section, key, line);
}

static cvk_status check(const rig_reader *r)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count), *refused = NULL;
    for (unsigned n = 0; n < count; n++) {
        if (r->line_of[n] == 0) {
            return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0,
                                "%s.%s is missing (%s); allowed: %g .. %g", fields[n].section,
                                fields[n].name, fields[n].meaning, fields[n].low, fields[n].high);
        }
    }
    if (!r->named) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, 0, "name is missing");
    }
    if (cvk_rig_check(r->config, &refused) != CVK_OK) {
        double value = *(const double *)(const void *)((const char *)r->config + refused->offset);
        return cvk_complain(r->complaint, CVK_OUT_OF_RANGE, r->path, r->line_of[refused - fields],
                            "%s.%s is %g; allowed: %g .. %g (%s)", refused->section, refused->name,
                            value, refused->low, refused->high, refused->meaning);
    }
    return CVK_OK;
}

cvk_status cvk_rig_file_parse(cvk_rig_config *config, const char *path, const char *text,
                              size_t length, cvk_complaint *complaint)
{
    *config = (cvk_rig_config){.name = ""};
    rig_reader r = {.config = config, .path = path, .complaint = complaint};
    cvk_status status = cvk_yaml_walk(path, text, length, visit, &r, complaint);
    return status == CVK_OK ? check(&r) : status;
}

cvk_status cvk_rig_file_read(cvk_rig_config *config, const char *path, cvk_complaint *complaint)
{
    char text[MOST_BYTES];
    FILE *stream = fopen(path, "rb");
    if (stream == NULL) {
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be opened: check the name and that it may be read");
    }
    size_t length = fread(text, 1, sizeof text, stream);
    bool failed = ferror(stream) != 0;
    fclose(stream);
    if (failed || length == sizeof text) {
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be read as a rig file (at most %u bytes)", MOST_BYTES - 1u);
    }
    return cvk_rig_file_parse(config, path, text, length, complaint);
}
