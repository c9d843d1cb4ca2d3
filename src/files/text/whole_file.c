/* SPDX-License-Identifier: Apache-2.0
 *
 * Files that are whole or not there: a name of its own (O_EXCL, so no planted link is followed), a
 * lock that tells a writer from what a killed one has left, fsync, rename.
 */
#include "whole_file.h"

#include "text_file.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#define SUFFIX ".part"

static void forget(cvk_whole_file *file)
{
    free(file->path);
    free(file->beside);
    file->path = file->beside = NULL;
    file->stream = NULL;
}

/* Nothing stands there any more; false when somebody writes there, or it cannot be removed. */
static bool clear(const char *beside)
{
    const int fd = open(beside, O_WRONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0) {
        return errno == ENOENT || unlink(beside) == 0;
    }
    const bool unused = flock(fd, LOCK_EX | LOCK_NB) == 0;
    close(fd);
    return unused && unlink(beside) == 0;
}

cvk_status cvk_whole_file_place(cvk_whole_file *file, const char *path, cvk_complaint *complaint)
{
    const size_t size = strlen(path) + sizeof SUFFIX;
    *file = (cvk_whole_file){.path = malloc(size), .beside = malloc(size)};
    if (file->path == NULL || file->beside == NULL) {
        forget(file);
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0, "no memory is left");
    }
    snprintf(file->path, size, "%s", path);
    snprintf(file->beside, size, "%s" SUFFIX, path);
    if (!cvk_may_be_replaced(path)) {
        forget(file);
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "is there and not a file: name a file");
    }
    if (access(path, W_OK) != 0 && errno != ENOENT) {
        const int why = errno;
        forget(file);
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be written (%s): check the folder and that it may be written",
                            strerror(why));
    }
    if (!clear(file->beside)) {
        forget(file);
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "is being written by another program (%s" SUFFIX "): wait for it",
                            path);
    }
    return CVK_OK;
}

/* As the file that it replaces may be read and written. */
static void keep_mode(int fd, const char *path)
{
    struct stat old;
    if (stat(path, &old) == 0) {
        (void)fchmod(fd, old.st_mode & 0777);
    }
}

cvk_status cvk_whole_file_open(cvk_whole_file *file, const char *path, cvk_complaint *complaint)
{
    const cvk_status status = cvk_whole_file_place(file, path, complaint);
    if (status != CVK_OK || file->beside == NULL) {
        return status;
    }
    const int fd = open(file->beside, O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
    file->stream = fd >= 0 && flock(fd, LOCK_EX | LOCK_NB) == 0 ? fdopen(fd, "wb") : NULL;
    if (file->stream == NULL) {
        const int why = errno;
        if (fd >= 0) {
            close(fd);
            unlink(file->beside);
        }
        forget(file);
        return cvk_complain(complaint, CVK_FILE_ERROR, path, 0,
                            "cannot be written (%s): check the folder and that it may be written",
                            strerror(why));
    }
    keep_mode(fd, path);
    return CVK_OK;
}

/* It is on the disk. */
static bool is_stored(const cvk_whole_file *file)
{
    if (file->stream != NULL) {
        return fflush(file->stream) == 0 && ferror(file->stream) == 0 &&
               fsync(fileno(file->stream)) == 0;
    }
    const int fd = open(file->beside, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    const bool stored = fd >= 0 && fsync(fd) == 0;
    if (fd >= 0) {
        close(fd);
    }
    return stored;
}

cvk_status cvk_whole_file_close(cvk_whole_file *file, bool keep, cvk_complaint *complaint)
{
    const bool stored = keep && is_stored(file);
    const bool renamed = stored && rename(file->beside, file->path) == 0;
    cvk_status status = CVK_OK;
    if (!renamed) {
        unlink(file->beside);
    }
    if (keep && !renamed) {
        status = cvk_complain(complaint, CVK_FILE_ERROR, file->path, 0,
                              "cannot be written completely: is the disk full?");
    }
    if (file->stream != NULL) {
        (void)fclose(file->stream);
    }
    forget(file);
    return status;
}
