/* faults PROGRAM [ARGUMENT...]: runs a program and lets its input and output fail. It traces the system calls (ptrace(2)), so
 * that programs which are linked statically fail as well. x86-64 Linux.
 *
 * FAULT_FILE    part of the path of the files that fail; the others work
 * FAULT_OP      read, write, sync or open
 * FAULT_AT      the number of the operation of that kind that fails, from 0 on; without it, all fail that FAULT_LBA names
 * FAULT_FOR     how many fail from there on (default 1)
 * FAULT_LBA     only transfers that contain this sector of 512 bytes
 * FAULT_COUNT   a file to which the number of such operations is written at the end
 */
#define _GNU_SOURCE
#include <errno.h>
#include <limits.h>
#include <signal.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#define MAX_THREADS 256

static long count;
/* Threads in a system call that is to fail. */
static pid_t failing[MAX_THREADS];

static long number(const char *name, long otherwise) {
    const char *text = getenv(name);
    return text ? atol(text) : otherwise;
}

static int is_meant(const char *path) {
    const char *wanted = getenv("FAULT_FILE");
    return wanted && strstr(path, wanted) != NULL;
}

/* The path of an opened file of a thread; empty if it has none. */
static void path_of(pid_t thread, int fd, char path[PATH_MAX]) {
    char link[64];
    snprintf(link, sizeof link, "/proc/%d/fd/%d", thread, fd);
    ssize_t length = readlink(link, path, PATH_MAX - 1);
    path[length < 0 ? 0 : length] = 0;
}

/* True if this operation is to fail. */
static int fails(const char *operation, const char *path, unsigned long long offset, unsigned long long length) {
    const char *wanted = getenv("FAULT_OP");
    if (!wanted || strcmp(wanted, operation) || !is_meant(path))
        return 0;
    long lba = number("FAULT_LBA", -1), at = number("FAULT_AT", -1);
    if (lba >= 0 && (lba * 512ULL < offset || lba * 512ULL >= offset + length))
        return 0;
    long now = count++;
    if (lba >= 0 && at < 0)
        return 1;
    return at >= 0 && now >= at && now < at + number("FAULT_FOR", 1);
}

static int call_fails(pid_t thread, const struct __ptrace_syscall_info *call) {
    const __uint64_t *args = call->entry.args;
    char path[PATH_MAX] = "";
    switch (call->entry.nr) {
    case SYS_pread64:
    case SYS_read:
        path_of(thread, (int)args[0], path);
        return fails("read", path, call->entry.nr == SYS_read ? 0 : args[3], call->entry.nr == SYS_read ? 0 : args[2]);
    case SYS_pwrite64:
    case SYS_write:
        path_of(thread, (int)args[0], path);
        return fails("write", path, call->entry.nr == SYS_write ? 0 : args[3], call->entry.nr == SYS_write ? 0 : args[2]);
    case SYS_fsync:
    case SYS_fdatasync:
    case SYS_syncfs:
        path_of(thread, (int)args[0], path);
        return fails("sync", path, 0, 0);
    case SYS_openat: {
        char name[PATH_MAX] = "", whole[2 * PATH_MAX + 1];
        struct iovec here = {name, sizeof name - 1}, there = {(void *)args[1], sizeof name - 1};
        /* Up to the end of a page, if the next one is not mapped. */
        if (process_vm_readv(thread, &here, 1, &there, 1, 0) < 0) {
            there.iov_len = here.iov_len = 4096 - args[1] % 4096;
            process_vm_readv(thread, &here, 1, &there, 1, 0);
        }
        path_of(thread, (int)args[0], path);
        snprintf(whole, sizeof whole, "%s/%s", path, name);
        return fails("open", name[0] == '/' ? name : whole, 0, 0);
    }
    default:
        return 0;
    }
}

static void at_call(pid_t thread) {
    struct __ptrace_syscall_info call;
    if (ptrace(PTRACE_GET_SYSCALL_INFO, thread, sizeof call, &call) < 0)
        return;
    if (call.op == PTRACE_SYSCALL_INFO_ENTRY && call_fails(thread, &call)) {
        for (int slot = 0; slot < MAX_THREADS; slot++)
            if (!failing[slot]) {
                failing[slot] = thread;
                /* No such system call: nothing is done. */
                ptrace(PTRACE_POKEUSER, thread, offsetof(struct user, regs.orig_rax), -1L);
                return;
            }
        abort();
    }
    if (call.op == PTRACE_SYSCALL_INFO_EXIT)
        for (int slot = 0; slot < MAX_THREADS; slot++)
            if (failing[slot] == thread) {
                failing[slot] = 0;
                ptrace(PTRACE_POKEUSER, thread, offsetof(struct user, regs.rax), (long)-EIO);
            }
}

static void report(void) {
    const char *path = getenv("FAULT_COUNT");
    FILE *file = path ? fopen(path, "w") : NULL;
    if (file) {
        fprintf(file, "%ld\n", count);
        fclose(file);
    }
}

int main(int argc, char **argv) {
    if (argc < 2)
        return 125;
    pid_t program = fork();
    if (program == 0) {
        ptrace(PTRACE_TRACEME, 0, 0, 0);
        raise(SIGSTOP);
        execv(argv[1], argv + 1);
        _exit(127);
    }
    int status;
    waitpid(program, &status, 0);
    ptrace(PTRACE_SETOPTIONS, program, 0, PTRACE_O_EXITKILL | PTRACE_O_TRACESYSGOOD | PTRACE_O_TRACECLONE);
    ptrace(PTRACE_SYSCALL, program, 0, 0);
    for (;;) {
        pid_t thread = waitpid(-1, &status, __WALL);
        if (thread < 0)
            return 126;
        if (thread == program && (WIFEXITED(status) || WIFSIGNALED(status))) {
            report();
            return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
        }
        if (!WIFSTOPPED(status))
            continue;
        int signal = WSTOPSIG(status);
        if (signal == (SIGTRAP | 0x80))
            at_call(thread);
        int passed = signal == (SIGTRAP | 0x80) || signal == SIGTRAP || signal == SIGSTOP ? 0 : signal;
        ptrace(PTRACE_SYSCALL, thread, 0, passed);
    }
}
