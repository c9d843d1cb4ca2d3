/* SPDX-License-Identifier: Apache-2.0
 *
 * Mapping files: which column of a log is which canonical one.
 */
#include "corvak/files/log_csv.h"
#include "text_file.h"
#include "yaml_doc.h"

#include <stdio.h>
#include <string.h>

typedef struct maps_reader {
    cvk_column_map *maps;
    size_t most, *count;
    const char *path;
    cvk_complaint *complaint;
} maps_reader;

static cvk_status on_pair(void *context, const char *section, const char *key, const char *value,
                          long line)
{
    maps_reader *r = context;
    char pair[256];
    if (section[0] != '\0') {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "only lines `column: name` are allowed, no sections");
    }
    if (strcmp(value, "?") == 0) {
        return CVK_OK; /* left open in a proposal */
    }
    if (*r->count == r->most) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "more than %zu columns are mapped", r->most);
    }
    int length = snprintf(pair, sizeof pair, "%s=%s", key, value);
    if (length >= (int)sizeof pair || cvk_column_map_parse(&r->maps[*r->count], pair) != CVK_OK) {
        return cvk_complain(r->complaint, CVK_BAD_FORMAT, r->path, line,
                            "`%s: %s`: write a canonical column (t, ia, va, duty_a, vdc, theta_m, "
                            "...) and the name in the log's header, at most 63 characters",
                            key, value);
    }
    (*r->count)++;
    return CVK_OK;
}

cvk_status cvk_column_maps_read(cvk_column_map *maps, size_t most, size_t *count, const char *path,
                                cvk_complaint *complaint)
{
    maps_reader r = {maps, most, count, path, complaint};
    char text[CVK_TEXT_FILE_MOST];
    size_t length = 0;
    cvk_status status = cvk_text_file_read(path, text, &length, complaint);
    if (status == CVK_OK) {
        status = cvk_yaml_walk(path, text, length, on_pair, &r, complaint);
    }
    return status;
}
