/* SPDX-License-Identifier: Apache-2.0
 *
 * Sound HDF5 files with anything in them: names, units, kinds, sizes, keys as the fuzzer draws
 * them. What is refused is refused with a message, what is promised can be read. (What libhdf5
 * makes of damaged files is its own affair, in a child: tests/files/log/test_log_hdf5.c.)
 */
#include "log/log_hdf5_parts.h"
#include "log/log_sink.h"

#include <hdf5.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

#define MOST_SETS 20
#define WHOLE_ROWS 600

typedef struct drawn {
    const uint8_t *data;
    size_t left;
} drawn;

static unsigned draw(drawn *d)
{
    if (d->left == 0) {
        return 0;
    }
    d->left--;
    return *d->data++;
}

/* Up to 15 bytes, as they come. */
static void draw_text(drawn *d, char text[16])
{
    const unsigned length = draw(d) % 16;
    for (unsigned n = 0; n < length; n++) {
        text[n] = (char)draw(d);
    }
    text[length] = '\0';
}

static hid_t draw_type(drawn *d)
{
    const hid_t types[] = {H5T_NATIVE_DOUBLE, H5T_NATIVE_FLOAT, H5T_NATIVE_INT16,
                           H5T_NATIVE_UINT8,  H5T_STD_I64BE,    H5T_IEEE_F32BE};
    return types[draw(d) % 6];
}

/* A key or a unit: a text of fixed or variable length, without an end perhaps, a list or a number.
 */
static void add_attribute(drawn *d, hid_t object, const char *name)
{
    char text[16];
    const char *pointed = text;
    const unsigned how = draw(d) % 5;
    draw_text(d, text);
    const hsize_t two = 2;
    hid_t type = how == 3 ? H5Tcopy(H5T_NATIVE_INT) : H5Tcopy(H5T_C_S1);
    if (how < 3) {
        H5Tset_size(type, how == 0 ? H5T_VARIABLE : 16);
        H5Tset_strpad(type, how == 1 ? H5T_STR_SPACEPAD : H5T_STR_NULLTERM);
        H5Tset_cset(type, draw(d) % 2 == 0 ? H5T_CSET_ASCII : H5T_CSET_UTF8);
    }
    hid_t space = how == 4 ? H5Screate_simple(1, &two, NULL) : H5Screate(H5S_SCALAR);
    hid_t attribute = H5Acreate2(object, name, type, space, H5P_DEFAULT, H5P_DEFAULT);
    if (attribute >= 0) {
        H5Awrite(attribute, type, how == 0 ? (const void *)&pointed : (const void *)text);
        H5Aclose(attribute);
    }
    H5Sclose(space);
    H5Tclose(type);
}

/* Rows that were never written take no room: more than can be held whole are cheap. */
static hsize_t draw_rows(drawn *d)
{
    const unsigned low = draw(d), high = draw(d);
    return low == 255 ? 4000000u + high : low == 254 ? 3000000000u + high : (low + 2 * high) % 700;
}

static void add_set(drawn *d, hid_t root, hsize_t common_rows)
{
    char name[16];
    const unsigned known = draw(d);
    draw_text(d, name);
    const unsigned shape = draw(d);
    hsize_t size[2] = {shape % 4 == 0 ? draw_rows(d) : common_rows, 2}, block[2] = {16384, 2};
    hid_t space = shape == 255   ? H5Screate(H5S_SCALAR)
                  : shape == 254 ? H5Screate_simple(2, size, NULL)
                                 : H5Screate_simple(1, size, NULL);
    hid_t how = H5Pcreate(H5P_DATASET_CREATE);
    if (shape != 255) {
        H5Pset_chunk(how, shape == 254 ? 2 : 1, block);
    }
    const char *chosen = known < 3 * CVK_COLUMN_COUNT ? cvk_column_name(known / 3) : name;
    hid_t set = H5Dcreate2(root, chosen, draw_type(d), space, H5P_DEFAULT, how, H5P_DEFAULT);
    if (set >= 0 && shape < 254 && size[0] <= WHOLE_ROWS) {
        float cells[WHOLE_ROWS];
        for (hsize_t n = 0; n < size[0]; n++) {
            cells[n] = known < 3 ? (float)n * 1e-4f : (float)draw(d) - 128.0f;
        }
        H5Dwrite(set, H5T_NATIVE_FLOAT, H5S_ALL, H5S_ALL, H5P_DEFAULT, cells);
    }
    if (set >= 0 && shape % 2 == 0) {
        add_attribute(d, set, "unit");
    }
    if (set >= 0) {
        H5Dclose(set);
    }
    H5Pclose(how);
    H5Sclose(space);
}

static int make_file(drawn *d, const char *path)
{
    cvk_hdf5_begin();
    H5Eset_auto2(H5E_DEFAULT, NULL, NULL);
    hid_t root = H5Fcreate(path, H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT);
    if (root < 0) {
        return 0;
    }
    const hsize_t common_rows = draw_rows(d);
    const unsigned keys = draw(d) + 256 * draw(d), sets = draw(d) % MOST_SETS;
    for (unsigned n = 0; n < CVK_LOG_KEYS; n++) {
        if ((keys >> n) % 2 == 1) {
            add_attribute(d, root, cvk_log_keys[n]);
        }
    }
    for (unsigned n = 0; n < sets; n++) {
        add_set(d, root, common_rows);
    }
    H5Fclose(root);
    return 1;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static cvk_log_file file;
    char path[64];
    drawn d = {data, size};
    cvk_complaint complaint = {.text = ""};
    snprintf(path, sizeof path, "/dev/shm/fuzz-%ld.h5", (long)getpid());
    if (!make_file(&d, path)) {
        return 0;
    }
    const cvk_column_map map = {CVK_COLUMN_IA, "ADC", "mA", 2.0, -1.0};
    cvk_log_start(&file, path);
    cvk_status status = cvk_log_hdf5_read_here(&file, path, &map, draw(&d) % 2, &complaint);
    if (status != CVK_OK && complaint.text[0] == '\0') {
        abort(); /* a refusal without a word */
    }
    volatile double sum = 0.0;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) { /* every cell that is promised can be read */
        for (size_t k = 0; status == CVK_OK && file.cells[c] != NULL && k < file.log.rows; k++) {
            sum += file.cells[c][k];
        }
    }
    cvk_log_file_free(&file);
    (void)remove(path);
    (void)sum;
    return 0;
}
