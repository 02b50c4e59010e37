/* Channels of controller `relay` on bench PumpFeeder.
 * Written by `isodyne export header`; do not edit: change the bench and export again.
 * Real members are in the SI unit named behind them. */
#ifndef ISODYNE_PUMPFEEDER_RELAY_H
#define ISODYNE_PUMPFEEDER_RELAY_H

#include <assert.h>
#include <stddef.h>

#include "isodyne/controller.h"

typedef struct relay_reads {
  double into_1; /* A: CT-1 to CT-3: into the bank, as the relay sees them */
  double into_2; /* A */
  double into_3; /* A */
  double out_1; /* A: CT-4 to CT-6: out of the bank */
  double out_2; /* A */
  double out_3; /* A */
} relay_reads;
static_assert(sizeof(relay_reads) == 48, "layout of relay_reads");
static_assert(offsetof(relay_reads, into_1) == 0, "layout of relay_reads");
static_assert(offsetof(relay_reads, into_2) == 8, "layout of relay_reads");
static_assert(offsetof(relay_reads, into_3) == 16, "layout of relay_reads");
static_assert(offsetof(relay_reads, out_1) == 24, "layout of relay_reads");
static_assert(offsetof(relay_reads, out_2) == 32, "layout of relay_reads");
static_assert(offsetof(relay_reads, out_3) == 40, "layout of relay_reads");

typedef struct relay_writes {
  bool trip; /* bool */
  double operating; /* A */
  double second; /* A */
  double restraint; /* A */
} relay_writes;
static_assert(sizeof(relay_writes) == 32, "layout of relay_writes");
static_assert(offsetof(relay_writes, trip) == 0, "layout of relay_writes");
static_assert(offsetof(relay_writes, operating) == 8, "layout of relay_writes");
static_assert(offsetof(relay_writes, second) == 16, "layout of relay_writes");
static_assert(offsetof(relay_writes, restraint) == 24, "layout of relay_writes");

#define RELAY_PERIOD_NS INT64_C(1000000)

/* Put this line into one C file: const isodyne_controller_info isodyne_info = RELAY_INFO; */
#define RELAY_INFO \
  {ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof(relay_reads), (uint32_t)sizeof(relay_writes), 0u, \
   UINT64_C(0x256900d9c7fa4609)}

extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;
ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);
ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const relay_reads *reads, relay_writes *writes);
ISODYNE_EXPORT void isodyne_close(void *self);
/* Not needed; see isodyne/controller.h. */
ISODYNE_EXPORT int isodyne_copied(void *self);

#endif
