/* Loaded before the C library (LD_PRELOAD): below one folder the disk fails as it is told to, in a file that is shared and
 * read at every call: int error, int every (so many calls go well between two that fail), int wait (milliseconds each takes). */
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
#include <sys/mman.h>
#include <sys/types.h>
#include <unistd.h>

static volatile int *told;
static const char *root;
static atomic_int count;

__attribute__((constructor)) static void begin(void) {
  const char *path = getenv("FAULTS_TOLD");
  root = getenv("FAULTS_ROOT");
  int fd = path && root ? open(path, O_RDONLY | O_CLOEXEC) : -1;
  void *at = fd < 0 ? MAP_FAILED : mmap(NULL, 3 * sizeof(int), PROT_READ, MAP_SHARED, fd, 0);
  if (at != MAP_FAILED) told = at;
  if (fd >= 0) close(fd);
}

static int fails(const char *path) {
  if (!told || !path || strncmp(path, root, strlen(root))) return 0;
  if (told[2]) usleep(told[2] * 1000);
  if (!told[0] || (told[1] && atomic_fetch_add(&count, 1) % told[1])) return 0;
  errno = told[0];
  return 1;
}

static int fd_fails(int fd) {
  if (!told || (!told[0] && !told[2])) return 0;
  char link[64], path[PATH_MAX];
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  ssize_t n = readlink(link, path, sizeof path - 1);
  if (n < 0) return 0;
  path[n] = 0;
  return fails(path);
}

#define REAL(name) static typeof(&name) real; if (!real) real = (typeof(&name))dlsym(RTLD_NEXT, #name)

ssize_t write(int fd, const void *b, size_t n) { REAL(write); return fd_fails(fd) ? -1 : real(fd, b, n); }
ssize_t pwrite(int fd, const void *b, size_t n, off_t at) { REAL(pwrite); return fd_fails(fd) ? -1 : real(fd, b, n, at); }
ssize_t pwrite64(int fd, const void *b, size_t n, off64_t at) { REAL(pwrite64); return fd_fails(fd) ? -1 : real(fd, b, n, at); }
int fsync(int fd) { REAL(fsync); return fd_fails(fd) ? -1 : real(fd); }
int fdatasync(int fd) { REAL(fdatasync); return fd_fails(fd) ? -1 : real(fd); }
int ftruncate(int fd, off_t n) { REAL(ftruncate); return fd_fails(fd) ? -1 : real(fd, n); }
int rename(const char *a, const char *b) { REAL(rename); return fails(b) ? -1 : real(a, b); }
int mkdir(const char *a, mode_t m) { REAL(mkdir); return fails(a) ? -1 : real(a, m); }

#define OPEN(name)                                                                   \
  int name(const char *path, int how, ...) {                                         \
    REAL(name);                                                                      \
    va_list more;                                                                    \
    va_start(more, how);                                                             \
    mode_t mode = how & (O_CREAT | O_TMPFILE) ? va_arg(more, mode_t) : 0;            \
    va_end(more);                                                                    \
    return (how & (O_WRONLY | O_RDWR | O_CREAT)) && fails(path) ? -1 : real(path, how, mode); \
  }
OPEN(open)
OPEN(open64)
