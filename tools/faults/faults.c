/* Lets input and output fail: preloaded into the program under test (LD_PRELOAD).
 *
 * FAULT_FILE    part of the path of the files that fail; the others work
 * FAULT_OP      read, write, sync or open
 * FAULT_AT      the number of the operation of that kind that fails, from 0 on; without it, all fail that FAULT_LBA names
 * FAULT_FOR     how many fail from there on (default 1)
 * FAULT_LBA     only transfers that contain this sector of 512 bytes
 * FAULT_COUNT   a file to which the number of such operations is written at the end
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/types.h>
#include <unistd.h>

static atomic_long count;

static long number(const char *name, long otherwise) {
    const char *text = getenv(name);
    return text ? atol(text) : otherwise;
}

static int is_meant(const char *path) {
    const char *wanted = getenv("FAULT_FILE");
    return wanted && path && strstr(path, wanted);
}

static int is_meant_fd(int fd) {
    char link[64], path[PATH_MAX];
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(link, path, sizeof path - 1);
    if (length < 0)
        return 0;
    path[length] = 0;
    return is_meant(path);
}

/* True if this operation is to fail. */
static int fails(const char *operation, off_t offset, size_t length) {
    const char *wanted = getenv("FAULT_OP");
    if (!wanted || strcmp(wanted, operation))
        return 0;
    long lba = number("FAULT_LBA", -1);
    if (lba >= 0 && (lba * 512 < offset || lba * 512 >= offset + (off_t)length))
        return 0;
    long at = number("FAULT_AT", -1), now = atomic_fetch_add(&count, 1);
    if (lba >= 0 && at < 0)
        return 1;
    return at >= 0 && now >= at && now < at + number("FAULT_FOR", 1);
}

__attribute__((destructor)) static void report(void) {
    const char *path = getenv("FAULT_COUNT");
    FILE *file = path ? fopen(path, "w") : NULL;
    if (file) {
        fprintf(file, "%ld\n", atomic_load(&count));
        fclose(file);
    }
}

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

ssize_t pread64(int fd, void *buffer, size_t length, off64_t offset) {
    if (is_meant_fd(fd) && fails("read", offset, length))
        return errno = EIO, -1;
    return REAL(pread64)(fd, buffer, length, offset);
}

ssize_t read(int fd, void *buffer, size_t length) {
    if (is_meant_fd(fd) && fails("read", 0, 0))
        return errno = EIO, -1;
    return REAL(read)(fd, buffer, length);
}

ssize_t pwrite64(int fd, const void *buffer, size_t length, off64_t offset) {
    if (is_meant_fd(fd) && fails("write", offset, length))
        return errno = EIO, -1;
    return REAL(pwrite64)(fd, buffer, length, offset);
}

ssize_t write(int fd, const void *buffer, size_t length) {
    if (is_meant_fd(fd) && fails("write", 0, 0))
        return errno = EIO, -1;
    return REAL(write)(fd, buffer, length);
}

int fsync(int fd) {
    if (is_meant_fd(fd) && fails("sync", 0, 0))
        return errno = EIO, -1;
    return REAL(fsync)(fd);
}

int fdatasync(int fd) {
    if (is_meant_fd(fd) && fails("sync", 0, 0))
        return errno = EIO, -1;
    return REAL(fdatasync)(fd);
}

int open64(const char *path, int flags, ...) {
    mode_t mode = 0;
    if (flags & (O_CREAT | O_TMPFILE)) {
        va_list rest;
        va_start(rest, flags);
        mode = va_arg(rest, mode_t);
        va_end(rest);
    }
    if (is_meant(path) && fails("open", 0, 0))
        return errno = EIO, -1;
    return REAL(open64)(path, flags, mode);
}
