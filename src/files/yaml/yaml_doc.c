/* SPDX-License-Identifier: Apache-2.0
 *
 * Walks a YAML document with libyaml's event parser.
 */
#include "yaml_doc.h"

#include <ctype.h>
#include <stdio.h>
#include <string.h>
#include <yaml.h>

#define MOST_KEY 64
#define HEADER 400 /* characters in which the header ends */

typedef struct walk {
    const char *path;
    cvk_yaml_scalar visit;
    void *context;
    cvk_complaint *complaint;
    int depth, levels; /* mappings open, and allowed */
    bool have_key;
    char section[2 * MOST_KEY], key[MOST_KEY];
} walk;

static cvk_status on_scalar(walk *w, const yaml_event_t *event, long line)
{
    const char *value = (const char *)event->data.scalar.value;
    if (w->depth == 0) {
        return cvk_complain(w->complaint, CVK_BAD_FORMAT, w->path, line,
                            "a mapping of keys to values is expected, like `name: wheel`");
    }
    if (!w->have_key) {
        if (event->data.scalar.length >= MOST_KEY) {
            return cvk_complain(w->complaint, CVK_BAD_FORMAT, w->path, line,
                                "a key of %zu characters; at most %d are allowed",
                                event->data.scalar.length, MOST_KEY - 1);
        }
        snprintf(w->key, sizeof w->key, "%s", value);
        w->have_key = true;
        return CVK_OK;
    }
    w->have_key = false;
    return w->visit(w->context, w->depth >= 2 ? w->section : "", w->key, value, line);
}

static cvk_status on_mapping(walk *w, long line)
{
    if (w->depth == w->levels || (w->depth >= 1 && !w->have_key)) {
        return cvk_complain(w->complaint, CVK_BAD_FORMAT, w->path, line,
                            "sections inside sections are not allowed here");
    }
    if (w->depth >= 1) {
        size_t used = w->depth == 1 ? 0 : strlen(w->section);
        snprintf(w->section + used, sizeof w->section - used, "%s%s", used > 0 ? "." : "", w->key);
        w->have_key = false;
    }
    w->depth++;
    return CVK_OK;
}

static cvk_status on_event(walk *w, const yaml_event_t *event)
{
    long line = (long)event->start_mark.line + 1;
    switch (event->type) {
    case YAML_SCALAR_EVENT:
        return on_scalar(w, event, line);
    case YAML_MAPPING_START_EVENT:
        return on_mapping(w, line);
    case YAML_MAPPING_END_EVENT:
        w->depth--;
        if (w->depth >= 1) { /* back to the section around: its name ends before the last dot */
            char *dot = strrchr(w->section, '.');
            *(w->depth >= 2 && dot != NULL ? dot : w->section) = '\0';
        }
        return CVK_OK;
    case YAML_SEQUENCE_START_EVENT:
    case YAML_ALIAS_EVENT:
        return cvk_complain(w->complaint, CVK_BAD_FORMAT, w->path, line,
                            "lists and aliases are not allowed here");
    default:
        return CVK_OK;
    }
}

cvk_status cvk_yaml_walk(const char *path, const char *text, size_t length, cvk_yaml_scalar visit,
                         void *context, cvk_complaint *complaint)
{
    return cvk_yaml_walk_levels(path, text, length, 2, visit, context, complaint);
}

/* A header says that the last line is three dots, and it is not. */
static bool is_cut(const char *text, size_t length)
{
    char header[HEADER + 1];
    const size_t kept = length < HEADER ? length : HEADER;
    memcpy(header, text, kept);
    header[kept] = '\0';
    while (length > 0 && isspace((unsigned char)text[length - 1])) {
        length--;
    }
    return strstr(header, CVK_YAML_ENDS) != NULL &&
           (length < 4 || memcmp(text + length - 4, "\n...", 4) != 0);
}

cvk_status cvk_yaml_walk_levels(const char *path, const char *text, size_t length, int levels,
                                cvk_yaml_scalar visit, void *context, cvk_complaint *complaint)
{
    if (is_cut(text, length)) {
        return cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                            "the file was cut: its last line, three dots, is missing. Take a whole "
                            "copy, or write it anew");
    }
    yaml_parser_t parser;
    walk w = {
        .path = path, .levels = levels, .visit = visit, .context = context, .complaint = complaint};
    if (yaml_parser_initialize(&parser) == 0) {
        return CVK_NO_MEMORY;
    }
    yaml_parser_set_input_string(&parser, (const unsigned char *)text, length);
    cvk_status status = CVK_OK;
    bool done = false;
    while (status == CVK_OK && !done) {
        yaml_event_t event;
        if (yaml_parser_parse(&parser, &event) == 0) {
            status = cvk_complain(complaint, CVK_BAD_FORMAT, path,
                                  (long)parser.problem_mark.line + 1, "not valid YAML: %s",
                                  parser.problem != NULL ? parser.problem : "unreadable");
            break;
        }
        done = event.type == YAML_STREAM_END_EVENT;
        status = on_event(&w, &event);
        yaml_event_delete(&event);
    }
    yaml_parser_delete(&parser);
    return status;
}
