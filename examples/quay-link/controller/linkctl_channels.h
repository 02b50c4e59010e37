/* Channels of controller `ctl` on bench QuayLink.
 * Written by `isodyne export header`; do not edit: change the bench and export again.
 * Real members are in the SI unit named behind them. */
#ifndef ISODYNE_QUAYLINK_CTL_H
#define ISODYNE_QUAYLINK_CTL_H

#include <assert.h>
#include <stddef.h>

#include "isodyne/controller.h"

typedef struct ctl_reads {
  double out_volts; /* V: sampled at the beginning of each period, where there is no ripple */
  double wish; /* V */
  bool closed_loop; /* bool: the operator's hand */
  double by_hand; /* rad */
  double proportional; /* V: the regulator's numbers: volts of error that ask for a degree, and how long until they ask for another one */
  double integral_time; /* s */
} ctl_reads;
static_assert(sizeof(ctl_reads) == 48, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, out_volts) == 0, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, wish) == 8, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, closed_loop) == 16, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, by_hand) == 24, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, proportional) == 32, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, integral_time) == 40, "layout of ctl_reads");

typedef struct ctl_writes {
  double shift; /* rad */
  double error; /* V */
} ctl_writes;
static_assert(sizeof(ctl_writes) == 16, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, shift) == 0, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, error) == 8, "layout of ctl_writes");

#define CTL_PERIOD_NS INT64_C(20000)

/* Put this line into one C file: const isodyne_controller_info isodyne_info = CTL_INFO; */
#define CTL_INFO \
  {ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof(ctl_reads), (uint32_t)sizeof(ctl_writes), 0u, \
   UINT64_C(0xcaa5ba9282145620)}

extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;
ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);
ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const ctl_reads *reads, ctl_writes *writes);
ISODYNE_EXPORT void isodyne_close(void *self);
/* Not needed; see isodyne/controller.h. */
ISODYNE_EXPORT int isodyne_copied(void *self);

#endif
