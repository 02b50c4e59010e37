/* A loop that keeps a period and does nothing else: what the machine itself does to one. As the stepping thread: real-time
 * priority, locked memory, one core kept awake, asleep until 20 us before each deadline, then looking at the clock.
 *     bare_loop CORE PERIOD_NS SECONDS   prints steps, overruns, and the lateness in ns as "FROM COUNT" lines */
#define _GNU_SOURCE
#include <fcntl.h>
#include <sched.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <time.h>
#include <unistd.h>

enum { GUARD_NS = 20000, BINS = 100000, BIN_NS = 100 };
static int64_t bins[BINS];

static int64_t now_ns(void) {
  struct timespec t;
  clock_gettime(CLOCK_MONOTONIC, &t);
  return (int64_t)t.tv_sec * 1000000000 + t.tv_nsec;
}

int main(int argc, char** argv) {
  if (argc != 4) return 2;
  cpu_set_t core;
  CPU_ZERO(&core);
  CPU_SET(atoi(argv[1]), &core);
  const struct sched_param priority = {.sched_priority = 80};
  const int64_t period = atoll(argv[2]), steps = (int64_t)(atof(argv[3]) * 1e9) / period;
  const int awake = open("/dev/cpu_dma_latency", O_WRONLY);
  const int32_t none = 0;
  if (awake >= 0 && write(awake, &none, sizeof none) < 0) perror("/dev/cpu_dma_latency");
  memset(bins, 0, sizeof bins);
  if (mlockall(MCL_CURRENT) != 0 || sched_setaffinity(0, sizeof core, &core) != 0 ||
      sched_setscheduler(0, SCHED_FIFO, &priority) != 0)
    perror("rights");
  const int64_t origin = now_ns() + period;
  int64_t overruns = 0;
  for (int64_t k = 0; k < steps; ++k) {
    const int64_t due = origin + k * period, wake = due - GUARD_NS;
    int64_t now = now_ns();
    if (now < wake) {
      const struct timespec until = {wake / 1000000000, wake % 1000000000};
      clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &until, NULL);
      now = now_ns();
    }
    while (now < due) now = now_ns();
    const int64_t bin = (now - due) / BIN_NS;
    ++bins[bin < BINS ? bin : BINS - 1];
    if (now_ns() > due + period) ++overruns;
  }
  printf("%lld %lld\n", (long long)steps, (long long)overruns);
  for (int i = 0; i < BINS; ++i) {
    if (bins[i] > 0) printf("%d %lld\n", (i + 1) * BIN_NS, (long long)bins[i]);
  }
  return 0;
}
