/* Channels of controller `ctl` on bench FerryOnShore.
 * Written by `isodyne export header`; do not edit: change the bench and export again.
 * Real members are in the SI unit named behind them. */
#ifndef ISODYNE_FERRYONSHORE_CTL_H
#define ISODYNE_FERRYONSHORE_CTL_H

#include <assert.h>
#include <stddef.h>

#include "isodyne/controller.h"

/* Stage */
enum {
  STAGE_OFF = 0,
  STAGE_SYNCHRONISING = 1,
  STAGE_CONNECTING = 2,
  STAGE_FEEDING = 3,
  STAGE_TRIPPED = 4
};

typedef struct ctl_reads {
  double current[3]; /* A: CT-1 to CT-3, in the chokes */
  double side_volts[3]; /* V: VT-1 to VT-3, at the filter */
  double quay_volts[3]; /* V: VT-4 to VT-6, on the quay's side of the breaker */
  double link_volts; /* V: VT-7 */
  bool closed; /* bool: the breaker's own contact */
  bool wanted; /* bool: the engineer's switch */
  double set_active; /* A: amplitudes of the current into the quay: in phase with its voltage, and a quarter of a period ahead */
  double set_reactive; /* A */
} ctl_reads;
static_assert(sizeof(ctl_reads) == 104, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, current) == 0, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, side_volts) == 24, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, quay_volts) == 48, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, link_volts) == 72, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, closed) == 80, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, wanted) == 81, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, set_active) == 88, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, set_reactive) == 96, "layout of ctl_reads");

typedef struct ctl_writes {
  isodyne_gate gate[6]; /* gate: the six lines to the drivers */
  bool connect; /* bool: Q-1 */
  int32_t stage; /* off|synchronising|connecting|feeding|tripped */
  double active; /* A */
  double reactive; /* A */
  double mismatch; /* V */
} ctl_writes;
static_assert(sizeof(ctl_writes) == 440, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, gate) == 0, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, connect) == 408, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, stage) == 412, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, active) == 416, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, reactive) == 424, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, mismatch) == 432, "layout of ctl_writes");

#define CTL_PERIOD_NS INT64_C(50000)

/* Put this line into one C file: const isodyne_controller_info isodyne_info = CTL_INFO; */
#define CTL_INFO \
  {ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof(ctl_reads), (uint32_t)sizeof(ctl_writes), 0u, \
   UINT64_C(0xa4a6c0306e8ef33e)}

extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;
ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);
ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const ctl_reads *reads, ctl_writes *writes);
ISODYNE_EXPORT void isodyne_close(void *self);
/* Not needed; see isodyne/controller.h. */
ISODYNE_EXPORT int isodyne_copied(void *self);

#endif
