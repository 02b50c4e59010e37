/* The interface between Isodyne and a controller in a shared library. C11, no dependency.
 *
 * A controller is a shared library with three functions and one constant:
 *
 *   const isodyne_controller_info isodyne_info;
 *   int  isodyne_init(void **self, int64_t period_ns);
 *   int  isodyne_step(void *self, int64_t time_ns, const READS *reads, WRITES *writes);
 *   void isodyne_close(void *self);
 *
 * and, if it likes, a fourth: runs of a campaign that are the same up to some instant are then computed once up to
 * there, and go on in copies of the process (fork).
 *
 *   int  isodyne_copied(void *self);
 *
 * is called in each copy, before its next step. All memory is as it was; threads of the controller are gone, and files
 * and sockets are shared with the original. A controller whose whole state is in memory has nothing to do and returns
 * 0.
 *
 * READS and WRITES are structs with one named member per channel. They differ from bench to bench, so their
 * definition, typed prototypes of the functions and the value of isodyne_info come from a header that
 *
 *   isodyne export header BENCH
 *
 * writes. All functions are called from one thread. init, step and copied return 0, or any other number to say that
 * the controller gives up; the run then ends and reports that number. `self` is the controller's own and is
 * handed back unchanged. `writes` holds the previous answer when step is called (zeros at first), also the edges of
 * gates: count them anew each time.
 */
#ifndef ISODYNE_CONTROLLER_H
#define ISODYNE_CONTROLLER_H

#include <stdbool.h>
#include <stdint.h>

/* Changes only when an existing controller would no longer work. */
#define ISODYNE_CONTROLLER_VERSION 1u

typedef struct isodyne_controller_info {
  uint32_t interface_version; /* ISODYNE_CONTROLLER_VERSION */
  uint32_t reads_bytes;       /* sizeof(READS) */
  uint32_t writes_bytes;      /* sizeof(WRITES) */
  uint32_t reserved;          /* 0 */
  uint64_t layout;            /* identity of names, types and order of all members */
} isodyne_controller_info;

/* A gate over one period: that in which the answer is valid, which begins one period after the question. It is `on` at
 * the beginning, and turns round at each edge. Instants count from the beginning of that period, in order; the bench
 * rounds them up to the clock of the channel. */
enum { ISODYNE_GATE_EDGES = 16 };
typedef struct isodyne_gate {
  bool on;
  uint8_t edges; /* how many there are */
  uint8_t reserved[2];
  int32_t at_ns[ISODYNE_GATE_EDGES]; /* 0 .. period */
} isodyne_gate;

#ifdef _WIN32
#define ISODYNE_EXPORT __declspec(dllexport)
#else
#define ISODYNE_EXPORT __attribute__((visibility("default")))
#endif

#endif
