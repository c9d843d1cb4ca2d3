/* SPDX-License-Identifier: Apache-2.0
 *
 * Writes motor cards with libyaml's emitter.
 */
#include "corvak/files/card_yaml.h"
#include "text/whole_file.h"
#include "yaml_doc.h"

#include <stdio.h>
#include <string.h>
#include <yaml.h>

typedef struct writer {
    yaml_emitter_t emitter;
    bool good;
} writer;

static void emit(writer *w, yaml_event_t *event)
{
    w->good = w->good && yaml_emitter_emit(&w->emitter, event) != 0;
}

static void text(writer *w, const char *value)
{
    yaml_event_t event;
    /* libyaml takes non-const text but does not change it */
    w->good = w->good &&
              yaml_scalar_event_initialize(&event, NULL, NULL, (yaml_char_t *)value,
                                           (int)strlen(value), 1, 1, YAML_ANY_SCALAR_STYLE) != 0;
    if (w->good) {
        emit(w, &event);
    }
}

static void number(writer *w, const char *key, double value)
{
    char digits[32];
    snprintf(digits, sizeof digits, "%.6g", value);
    text(w, key);
    text(w, digits);
}

static void open_mapping(writer *w, const char *key)
{
    yaml_event_t event;
    if (key != NULL) {
        text(w, key);
    }
    if (w->good &&
        yaml_mapping_start_event_initialize(&event, NULL, NULL, 1, YAML_BLOCK_MAPPING_STYLE) != 0) {
        emit(w, &event);
    }
}

static void close_mapping(writer *w)
{
    yaml_event_t event;
    yaml_mapping_end_event_initialize(&event);
    emit(w, &event);
}

static void write_entry(writer *w, const cvk_card *card, cvk_card_key key)
{
    const cvk_card_entry *entry = &card->entry[key];
    open_mapping(w, cvk_card_key_name(key));
    if (entry->known) {
        number(w, "value", entry->value);
        number(w, "low", entry->low);
        number(w, "high", entry->high);
        number(w, "statistical_low", entry->statistical_low);
        number(w, "statistical_high", entry->statistical_high);
        if (key == CVK_CARD_POLE_PAIRS && !entry->by_hand) {
            number(w, "probability", entry->probability);
        }
        text(w, entry->by_hand ? "by_hand" : "from");
        text(w, entry->from);
    } else {
        text(w, "missing");
        text(w, entry->missing);
    }
    close_mapping(w);
}

static void write_document(writer *w, const cvk_card *card)
{
    yaml_event_t event;
    yaml_stream_start_event_initialize(&event, YAML_UTF8_ENCODING);
    emit(w, &event);
    yaml_document_start_event_initialize(&event, NULL, NULL, NULL, 1);
    emit(w, &event);
    open_mapping(w, NULL);
    text(w, "name");
    text(w, card->name);
    open_mapping(w, "motor");
    for (int key = 0; key < CVK_CARD_MOTOR_COUNT; key++) {
        write_entry(w, card, (cvk_card_key)key);
    }
    close_mapping(w);
    open_mapping(w, "inverter");
    for (int key = CVK_CARD_MOTOR_COUNT; key < CVK_CARD_INVERTER_COUNT; key++) {
        write_entry(w, card, (cvk_card_key)key);
    }
    close_mapping(w);
    open_mapping(w, "saturation");
    for (int key = CVK_CARD_INVERTER_COUNT; key < CVK_CARD_COUNT; key++) {
        write_entry(w, card, (cvk_card_key)key);
    }
    close_mapping(w);
    close_mapping(w);
    yaml_document_end_event_initialize(&event, 0);
    emit(w, &event);
    yaml_stream_end_event_initialize(&event);
    emit(w, &event);
}

cvk_status cvk_card_file_write(const cvk_card *card, const char *path, cvk_complaint *complaint)
{
    cvk_whole_file file;
    const cvk_status status = cvk_whole_file_open(&file, path, complaint);
    if (status != CVK_OK) {
        return status;
    }
    fputs("# Motor card. Intervals (low .. high) are 95 %. Units are part of the keys.\n"
          "# " CVK_YAML_ENDS "\n",
          file.stream);
    writer w = {.good = true};
    w.good = yaml_emitter_initialize(&w.emitter) != 0;
    if (w.good) {
        yaml_emitter_set_output_file(&w.emitter, file.stream);
        yaml_emitter_set_width(&w.emitter, 100);
        write_document(&w, card);
    }
    yaml_emitter_delete(&w.emitter);
    const cvk_status closed = cvk_whole_file_close(&file, w.good, complaint);
    return w.good ? closed
                  : cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                                 "cannot be written completely: is the disk full?");
}
