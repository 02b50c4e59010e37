/* A controller at the other end of a link: one header in C11, for Linux, with no dependency.
 *
 * docs/link.md specifies the link byte by byte. A controller with this header is
 *
 *   #include "lockctl_channels.h"          (written by `isodyne export header`: plc_reads, plc_writes, PLC_INFO)
 *   #include "isodyne/link.h"
 *
 *   const isodyne_controller_info isodyne_info = PLC_INFO;
 *
 *   int main(void) {
 *     static isodyne_link link;
 *     plc_reads reads;
 *     plc_writes writes = {0};
 *     int64_t time_ns;
 *     if (isodyne_link_open(&link, NULL, &isodyne_info, 10000) != 0) return 1;      (link.trouble says why)
 *     while (isodyne_link_wait(&link, &reads, &time_ns) > 0) {
 *       … compute writes from reads …
 *       isodyne_link_answer(&link, &writes);
 *     }
 *     isodyne_link_close(&link);
 *   }
 *
 * The address is "udp:HOST:PORT", or what a bench that starts this program leaves in ISODYNE_LINK: "memory:FD" or
 * "socket:FD". A link belongs to one thread. Nothing is allocated.
 */
#ifndef ISODYNE_LINK_H
#define ISODYNE_LINK_H

#ifndef _GNU_SOURCE
#define _GNU_SOURCE \
  1 /* for sockets, mmap and syscall under -std=c11; include this header before others if they matter */
#endif

#include <errno.h>
#include <netdb.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include <linux/futex.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <unistd.h>

#include "isodyne/controller.h"

#define ISODYNE_LINK_VERSION 1u
#define ISODYNE_LINK_HEAD 48u
#define ISODYNE_LINK_MOST 60000u /* bytes of a payload */

/* How long a reader of shared memory looks before it sleeps, ns, at most: who has looked in vain, because somebody else
 * has the other end's core, looks more shortly the next time. */
#ifndef ISODYNE_LINK_SPIN_NS
#define ISODYNE_LINK_SPIN_NS 50000
#endif

typedef struct isodyne_link {
  int64_t period_ns;   /* of the exchanges, told by the bench */
  int paced;           /* 1: the bench keeps to the wall clock */
  const char* trouble; /* why a call failed */
  /* What was counted: questions that came again, came too late or never, and messages that were damaged or nobody's. */
  uint64_t duplicated, reordered, lost, corrupted, refused;

  /* From here on: the link's own. */
  const isodyne_controller_info* info;
  int file;          /* of the socket; -1 with shared memory */
  unsigned char* in; /* slots of the shared memory */
  unsigned char* out;
  size_t room; /* of a slot */
  uint32_t seen;
  int64_t look_ns; /* how long it looks at present */
  uint32_t vain;
  uint32_t session, sequence, answered;
  pid_t parent;
  size_t answer_bytes;
  unsigned char message[ISODYNE_LINK_HEAD + ISODYNE_LINK_MOST];
  unsigned char answer[ISODYNE_LINK_HEAD + ISODYNE_LINK_MOST];
} isodyne_link;

enum { ISODYNE_HELLO = 1, ISODYNE_WELCOME, ISODYNE_REFUSAL, ISODYNE_READS, ISODYNE_WRITES, ISODYNE_BYE };

/* ---- check sum: CRC-32C (RFC 3720, appendix B.4) */

static inline uint32_t isodyne_crc_table(uint32_t c, const unsigned char* bytes, size_t count) {
  for (size_t i = 0; i < count; ++i) {
    c ^= bytes[i];
    for (int bit = 0; bit < 8; ++bit) c = (c >> 1) ^ (0x82F63B78u & (0u - (c & 1u)));
  }
  return c;
}

#if defined(__x86_64__) && defined(__GNUC__)
__attribute__((target("sse4.2"))) static inline uint32_t isodyne_crc_quick(uint32_t c, const unsigned char* bytes,
                                                                           size_t count) {
  unsigned long long wide = c;
  size_t at = 0;
  for (; at + 8 <= count; at += 8) {
    unsigned long long eight;
    memcpy(&eight, bytes + at, 8);
    wide = __builtin_ia32_crc32di(wide, eight);
  }
  c = (uint32_t)wide;
  for (; at < count; ++at) c = __builtin_ia32_crc32qi(c, bytes[at]);
  return c;
}
#endif

static inline uint32_t isodyne_crc(uint32_t c, const unsigned char* bytes, size_t count) {
#if defined(__x86_64__) && defined(__GNUC__)
  if (__builtin_cpu_supports("sse4.2")) return isodyne_crc_quick(c, bytes, count);
#endif
  return isodyne_crc_table(c, bytes, count);
}

static inline uint32_t isodyne_link_sum(const unsigned char* message, size_t payload) {
  return ~isodyne_crc(isodyne_crc(0xFFFFFFFFu, message, 44), message + ISODYNE_LINK_HEAD, payload);
}

/* ---- messages */

static inline size_t isodyne_link_pack(isodyne_link* l, unsigned char* to, int kind, unsigned code, int64_t time_ns,
                                       const void* payload, size_t count) {
  const uint16_t code16 = (uint16_t)code;
  const uint32_t count32 = (uint32_t)count;
  memcpy(to, "IDYL", 4);
  to[4] = ISODYNE_LINK_VERSION;
  to[5] = (unsigned char)kind;
  memcpy(to + 6, &code16, 2);
  memcpy(to + 8, &l->session, 4);
  memcpy(to + 12, &l->sequence, 4);
  memcpy(to + 16, &time_ns, 8);
  memcpy(to + 24, &l->period_ns, 8);
  memcpy(to + 32, &l->info->layout, 8);
  memcpy(to + 40, &count32, 4);
  if (count > 0) memcpy(to + ISODYNE_LINK_HEAD, payload, count);
  const uint32_t sum = isodyne_link_sum(to, count);
  memcpy(to + 44, &sum, 4);
  return ISODYNE_LINK_HEAD + count;
}

static inline uint32_t isodyne_get32(const unsigned char* from) {
  uint32_t value;
  memcpy(&value, from, 4);
  return value;
}
static inline int64_t isodyne_get64(const unsigned char* from) {
  int64_t value;
  memcpy(&value, from, 8);
  return value;
}

/* The kind of a message, or 0: it is damaged or none. */
static inline int isodyne_link_check(isodyne_link* l, const unsigned char* m, size_t count) {
  if (count < ISODYNE_LINK_HEAD || memcmp(m, "IDYL", 4) != 0 || m[4] != ISODYNE_LINK_VERSION ||
      isodyne_get32(m + 40) != count - ISODYNE_LINK_HEAD) {
    ++l->refused;
    return 0;
  }
  if (isodyne_get32(m + 44) != isodyne_link_sum(m, count - ISODYNE_LINK_HEAD)) {
    ++l->corrupted;
    return 0;
  }
  return m[5];
}

/* ---- what carries them */

static inline int64_t isodyne_link_now(void) {
  struct timespec now;
  clock_gettime(CLOCK_MONOTONIC, &now);
  return (int64_t)now.tv_sec * 1000000000 + now.tv_nsec;
}

static inline _Atomic uint32_t* isodyne_word(unsigned char* slot, size_t at) {
  return (_Atomic uint32_t*)(void*)(slot + at);
}

static inline void isodyne_link_send(isodyne_link* l, const unsigned char* message, size_t count) {
  if (l->file >= 0) {
    (void)!send(l->file, message, count, MSG_NOSIGNAL | MSG_DONTWAIT);
    return;
  }
  if (count > l->room) return;
  _Atomic uint32_t* const word = isodyne_word(l->out, 0);
  const uint32_t turn = atomic_load_explicit(word, memory_order_relaxed);
  const uint32_t count32 = (uint32_t)count;
  atomic_store_explicit(word, turn + 1, memory_order_relaxed);
  atomic_thread_fence(memory_order_release);
  memcpy(l->out + 8, &count32, 4);
  memcpy(l->out + 16, message, count);
  atomic_store(word, turn + 2);
  if (atomic_load(isodyne_word(l->out, 4)) != 0) syscall(SYS_futex, word, FUTEX_WAKE, 0x7FFFFFFF, NULL, NULL, 0);
}

static inline size_t isodyne_link_look(isodyne_link* l) {
  _Atomic uint32_t* const word = isodyne_word(l->in, 0);
  const uint32_t turn = atomic_load_explicit(word, memory_order_acquire);
  if (turn == l->seen || (turn & 1u)) return 0;
  size_t count = isodyne_get32(l->in + 8);
  if (count > l->room) count = l->room;
  memcpy(l->message, l->in + 16, count);
  atomic_thread_fence(memory_order_acquire);
  if (atomic_load_explicit(word, memory_order_relaxed) != turn) return 0;
  l->seen = turn;
  return count;
}

/* The bytes of the next message in l->message, 0 after about `within_ns` without one, -1 when the bench is gone. */
static inline long isodyne_link_receive(isodyne_link* l, int64_t within_ns) {
  if (l->file >= 0) {
    const ssize_t got = recv(l->file, l->message, sizeof l->message, 0); /* waits 20 ms at most: SO_RCVTIMEO */
    if (got > 0) return (long)got;
    if (got == 0) return -1;
    return errno == EAGAIN || errno == EWOULDBLOCK || errno == EINTR || errno == ECONNREFUSED ? 0 : -1;
  }
  const int64_t begin = isodyne_link_now();
  for (;;) {
    for (int i = 0; i < 64; ++i) {
      const size_t got = isodyne_link_look(l);
      if (got > 0 && i > 0 && l->look_ns < ISODYNE_LINK_SPIN_NS) l->look_ns = 2 * l->look_ns + 1;
      if (got > 0) return (long)got;
      if (l->look_ns == 0) break;
#if defined(__x86_64__)
      __builtin_ia32_pause();
#endif
    }
    const int64_t waited = isodyne_link_now() - begin;
    if (waited >= within_ns) return getppid() == l->parent ? 0 : -1;
    if (waited < l->look_ns) continue;
    l->look_ns = l->look_ns / 4 < 2000 ? 0 : l->look_ns / 4;
    if (++l->vain % 64 == 0 && ISODYNE_LINK_SPIN_NS > 0)
      l->look_ns = 8000 < ISODYNE_LINK_SPIN_NS ? 8000 : ISODYNE_LINK_SPIN_NS;
    const struct timespec rest = {(time_t)((within_ns - waited) / 1000000000),
                                  (long)((within_ns - waited) % 1000000000)};
    _Atomic uint32_t* const word = isodyne_word(l->in, 0);
    atomic_store(isodyne_word(l->in, 4), 1u);
    const uint32_t turn = atomic_load(word);
    if (turn == l->seen || (turn & 1u)) syscall(SYS_futex, word, FUTEX_WAIT, turn, &rest, NULL, 0);
    atomic_store(isodyne_word(l->in, 4), 0u);
  }
}

static inline int isodyne_link_fail(isodyne_link* l, const char* why) {
  l->trouble = why;
  return -1;
}

static inline int isodyne_link_connect(isodyne_link* l, const char* address) {
  l->file = -1;
  if (strncmp(address, "memory:", 7) == 0) {
    const int file = atoi(address + 7);
    struct stat about;
    if (fstat(file, &about) != 0 || about.st_size < 64) return isodyne_link_fail(l, "there is no shared memory");
    unsigned char* const memory =
        mmap(NULL, (size_t)about.st_size, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, file, 0);
    if (memory == MAP_FAILED) return isodyne_link_fail(l, "the shared memory cannot be mapped");
    if (memcmp(memory, "IDYLMEM1", 8) != 0) return isodyne_link_fail(l, "the shared memory is of another version");
    const size_t slot = isodyne_get32(memory + 8);
    if (64 + 2 * slot > (size_t)about.st_size || slot <= 16 || slot - 16 > sizeof l->message)
      return isodyne_link_fail(l, "the shared memory has an impossible size");
    l->look_ns = ISODYNE_LINK_SPIN_NS;
    l->in = memory + 64;
    l->out = memory + 64 + slot;
    l->room = slot - 16;
    return 0;
  }
  if (strncmp(address, "socket:", 7) == 0) {
    l->file = atoi(address + 7);
  } else if (strncmp(address, "udp:", 4) == 0) {
    char host[256];
    const char* const colon = strrchr(address + 4, ':');
    if (colon == NULL || (size_t)(colon - address - 4) >= sizeof host)
      return isodyne_link_fail(l, "the address is not udp:HOST:PORT");
    memcpy(host, address + 4, (size_t)(colon - address - 4));
    host[colon - address - 4] = 0;
    struct addrinfo hints = {0}, *list = NULL;
    hints.ai_socktype = SOCK_DGRAM;
    if (getaddrinfo(host, colon + 1, &hints, &list) != 0) return isodyne_link_fail(l, "the host cannot be found");
    l->file = socket(list->ai_family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    const int failed = l->file < 0 || connect(l->file, list->ai_addr, list->ai_addrlen) != 0;
    freeaddrinfo(list);
    if (failed) return isodyne_link_fail(l, "the host cannot be reached");
  } else {
    return isodyne_link_fail(l, "the address begins with none of udp:, memory:, socket:");
  }
  const struct timeval limit = {0, 20000};
  setsockopt(l->file, SOL_SOCKET, SO_RCVTIMEO, &limit, sizeof limit);
  return 0;
}

/* ---- what a controller calls */

static inline void isodyne_link_hello(isodyne_link* l) {
  isodyne_link_send(l, l->answer, isodyne_link_pack(l, l->answer, ISODYNE_HELLO, l->session != 0, 0, NULL, 0));
}

/* Reaches the bench within about `within_ms`, and tells it that this controller is ready. 0, or -1: l->trouble. */
static inline int isodyne_link_open(isodyne_link* l, const char* address, const isodyne_controller_info* info,
                                    int within_ms) {
  memset(l, 0, sizeof *l);
  l->info = info;
  l->parent = getppid();
  if (info->reads_bytes > ISODYNE_LINK_MOST || info->writes_bytes > ISODYNE_LINK_MOST)
    return isodyne_link_fail(l, "there is more to exchange than a link carries");
  if (address == NULL) address = getenv("ISODYNE_LINK");
  if (address == NULL) return isodyne_link_fail(l, "no address is given, and ISODYNE_LINK is not set");
  if (isodyne_link_connect(l, address) != 0) return -1;
  const int64_t until = isodyne_link_now() + (int64_t)within_ms * 1000000;
  do {
    isodyne_link_hello(l);
    const int64_t again = isodyne_link_now() + 50000000;
    while (isodyne_link_now() < again) {
      const long got = isodyne_link_receive(l, 20000000);
      if (got < 0) return isodyne_link_fail(l, "the bench is gone");
      const int kind = got > 0 ? isodyne_link_check(l, l->message, (size_t)got) : 0;
      if (kind == ISODYNE_REFUSAL) {
        const unsigned why = l->message[6];
        return isodyne_link_fail(l, why == 1   ? "the bench speaks another version of the link"
                                    : why == 2 ? "this controller was built for other channels than the bench has"
                                               : "the bench has a controller already");
      }
      if (kind != ISODYNE_WELCOME) continue;
      l->session = isodyne_get32(l->message + 8);
      l->period_ns = isodyne_get64(l->message + 24);
      l->paced = l->message[6];
      isodyne_link_hello(l);
      return 0;
    }
  } while (isodyne_link_now() < until);
  return isodyne_link_fail(l, "no bench answers");
}

/* Waits for the next question. 1: `reads` and `time_ns` are there; 0: the bench has ended; -1: l->trouble. */
static inline int isodyne_link_wait(isodyne_link* l, void* reads, int64_t* time_ns) {
  int64_t again = 0;
  for (;;) {
    const long got = isodyne_link_receive(l, 20000000);
    if (got < 0) return 0;
    const int kind = got > 0 ? isodyne_link_check(l, l->message, (size_t)got) : 0;
    if (kind != 0 && isodyne_get32(l->message + 8) != l->session) {
      ++l->refused;
      continue;
    }
    if (kind == ISODYNE_BYE) return 0;
    if (kind == ISODYNE_READS) {
      const uint32_t sequence = isodyne_get32(l->message + 12);
      const uint32_t ahead = sequence - l->answered;
      if (ahead == 0) { /* asked again: the answer was lost on its way */
        ++l->duplicated;
        isodyne_link_send(l, l->answer, l->answer_bytes);
        continue;
      }
      if (ahead > 0x7FFFFFFFu) {
        ++l->reordered;
        continue;
      }
      if (got != (long)(ISODYNE_LINK_HEAD + l->info->reads_bytes))
        return isodyne_link_fail(l, "the bench sends another number of bytes");
      l->lost += ahead - 1;
      l->sequence = sequence;
      memcpy(reads, l->message + ISODYNE_LINK_HEAD, l->info->reads_bytes);
      *time_ns = isodyne_get64(l->message + 16);
      return 1;
    }
    if (l->sequence == 0 && isodyne_link_now() > again) { /* the bench may have missed it */
      isodyne_link_hello(l);
      again = isodyne_link_now() + 50000000;
    }
  }
}

/* Answers the last question. */
static inline void isodyne_link_answer(isodyne_link* l, const void* writes) {
  l->answer_bytes = isodyne_link_pack(l, l->answer, ISODYNE_WRITES, 0, 0, writes, l->info->writes_bytes);
  l->answered = l->sequence;
  isodyne_link_send(l, l->answer, l->answer_bytes);
}

/* Tells the bench that this controller ends; `code` 0: as it should. */
static inline void isodyne_link_bye(isodyne_link* l, unsigned code) {
  isodyne_link_send(l, l->message, isodyne_link_pack(l, l->message, ISODYNE_BYE, code, 0, NULL, 0));
}

static inline void isodyne_link_close(isodyne_link* l) {
  if (l->file >= 0) close(l->file);
  l->file = -1;
}

#endif
