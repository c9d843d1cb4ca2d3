/* SPDX-License-Identifier: Apache-2.0
 *
 * libhdf5 can crash on a damaged file, so a child reads, into memory that both share: what kills it
 * does not kill us.
 */
#include "log_hdf5_parts.h"

#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#define SHORTEST_READ_S 10u /* what a reading may take, and how fast it must be beyond that */
#define SLOWEST_BYTES_S 2000000
#define MOST_MEMORY_BYTES (4ull << 30) /* more than any sound file needs */

/* A damaged file must not take the machine's memory: beyond this libhdf5 gets no more. */
static void limit_memory(void)
{
    unsigned long long pages = 0;
    FILE *statm = fopen("/proc/self/statm", "r");
    if (statm != NULL && fscanf(statm, "%llu", &pages) == 1) {
        const rlim_t most = pages * (unsigned long long)sysconf(_SC_PAGESIZE) + MOST_MEMORY_BYTES;
        const struct rlimit limit = {most, most};
        (void)setrlimit(RLIMIT_AS, &limit);
    }
    if (statm != NULL) {
        fclose(statm);
    }
}

/* What a damaged file may do is bounded: words, time, memory. */
static void bound_child(const char *path)
{
    int quiet = open("/dev/null", O_WRONLY);
    (void)dup2(quiet, STDERR_FILENO);
    struct stat about = {.st_size = 0};
    (void)stat(path, &about);
    (void)signal(SIGALRM, SIG_DFL); /* whatever the caller's program does with it */
    (void)alarm(SHORTEST_READ_S + (unsigned)(about.st_size / SLOWEST_BYTES_S));
    limit_memory();
}

/* Takes over what the child has left in the shared memory. */
static cvk_status adopt(cvk_log_file *file, int memory_file, const cvk_hdf5_found *memory,
                        cvk_complaint *complaint)
{
    if (memory->status != CVK_OK) {
        if (complaint != NULL) {
            *complaint = memory->complaint;
        }
        return memory->status;
    }
    char *all = mmap(NULL, memory->bytes, PROT_READ | PROT_WRITE, MAP_PRIVATE, memory_file, 0);
    if (all == MAP_FAILED) {
        return cvk_complain(complaint, CVK_NO_MEMORY, file->path, 0,
                            "not enough memory for this log: cut it into pieces");
    }
    *file = memory->file; /* its pointers are from before the fork: they hold here too */
    file->mapping = all;
    file->mapping_bytes = memory->bytes;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        file->cells[c] = memory->offset[c] > 0 ? (double *)(void *)(all + memory->offset[c]) : NULL;
    }
    return cvk_log_finish(file, memory->sample_rate_hz);
}

/* Null without memory. */
static cvk_hdf5_found *open_memory(int *memory_file)
{
    const size_t page = (size_t)sysconf(_SC_PAGESIZE);
    const size_t bytes = (sizeof(cvk_hdf5_found) + page - 1) / page * page;
    cvk_hdf5_found *memory = MAP_FAILED;
    *memory_file = memfd_create("corvak-log", MFD_CLOEXEC);
    if (*memory_file >= 0 && ftruncate(*memory_file, (off_t)bytes) == 0) {
        memory = mmap(NULL, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, *memory_file, 0);
    }
    if (memory == MAP_FAILED) {
        return NULL;
    }
    memory->bytes = bytes;
    return memory;
}

static void close_memory(cvk_hdf5_found *memory, int memory_file)
{
    if (memory != NULL) {
        (void)munmap(memory, sizeof *memory);
    }
    if (memory_file >= 0) {
        (void)close(memory_file);
    }
}

cvk_status cvk_log_hdf5_read_here(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                                  size_t map_count, cvk_complaint *complaint)
{
    int memory_file;
    cvk_hdf5_found *memory = open_memory(&memory_file);
    cvk_status status = CVK_NO_MEMORY;
    if (memory != NULL) {
        cvk_hdf5_read_file(file, path, maps, map_count, memory, memory_file);
        status = adopt(file, memory_file, memory, complaint);
    }
    close_memory(memory, memory_file);
    return status;
}

cvk_status cvk_log_hdf5_read(cvk_log_file *file, const char *path, const cvk_column_map *maps,
                             size_t map_count, cvk_complaint *complaint)
{
    int memory_file, how = 0;
    cvk_hdf5_found *memory = open_memory(&memory_file);
    const pid_t child = memory != NULL ? fork() : -1;
    if (child == 0) {
        bound_child(path);
        cvk_hdf5_read_file(file, path, maps, map_count, memory, memory_file);
        _exit(0);
    }
    cvk_status status = CVK_NO_MEMORY;
    if (child < 0) {
        (void)cvk_complain(complaint, status, path, 0, "not enough memory to read HDF5");
    } else if (waitpid(child, &how, 0) == child && WIFEXITED(how) && memory->done) {
        status = adopt(file, memory_file, memory, complaint);
    } else {
        status = cvk_complain(complaint, CVK_BAD_FORMAT, path, 0,
                              "this HDF5 file is damaged: record it again, or export it as CSV");
    }
    close_memory(memory, memory_file);
    return status;
}
