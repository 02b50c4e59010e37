/* Channels of controller `ctl` on bench BatteryLaunch.
 * Written by `isodyne export header`; do not edit: change the bench and export again.
 * Real members are in the SI unit named behind them. */
#ifndef ISODYNE_BATTERYLAUNCH_CTL_H
#define ISODYNE_BATTERYLAUNCH_CTL_H

#include <assert.h>
#include <stddef.h>

#include "isodyne/controller.h"

/* Stage */
enum {
  STAGE_OFF = 0,
  STAGE_STARTING = 1,
  STAGE_WAITING = 2,
  STAGE_FEEDING = 3,
  STAGE_TRIPPED = 4
};

typedef struct ctl_reads {
  double current[3]; /* A: CT-1 to CT-3, in the chokes */
  double volts[3]; /* V: VT-1 to VT-3, at the filter */
  double upper_volts; /* V: VT-4 and VT-5, the halves of the link */
  double lower_volts; /* V */
  bool ready; /* bool: contacts of the breaker: spring wound, and closed */
  bool closed; /* bool */
  bool wanted; /* bool: the skipper's key */
  double set_frequency; /* 1/s: frequency without load, and by how much it falls with the power */
  double droop; /* s^2/(m^2*kg) */
  double set_voltage; /* V: voltage without load (amplitude), and by how much it falls with the reactive power */
  double voltage_droop; /* 1/A */
} ctl_reads;
static_assert(sizeof(ctl_reads) == 104, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, current) == 0, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, volts) == 24, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, upper_volts) == 48, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, lower_volts) == 56, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, ready) == 64, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, closed) == 65, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, wanted) == 66, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, set_frequency) == 72, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, droop) == 80, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, set_voltage) == 88, "layout of ctl_reads");
static_assert(offsetof(ctl_reads, voltage_droop) == 96, "layout of ctl_reads");

typedef struct ctl_writes {
  isodyne_gate gate[12]; /* gate: the twelve lines to the drivers */
  bool connect; /* bool: Q-1 */
  int32_t stage; /* off|starting|waiting|feeding|tripped */
  double frequency; /* 1/s */
  double active; /* W */
  double reactive; /* W */
  double amplitude; /* V */
} ctl_writes;
static_assert(sizeof(ctl_writes) == 856, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, gate) == 0, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, connect) == 816, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, stage) == 820, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, frequency) == 824, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, active) == 832, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, reactive) == 840, "layout of ctl_writes");
static_assert(offsetof(ctl_writes, amplitude) == 848, "layout of ctl_writes");

#define CTL_PERIOD_NS INT64_C(50000)

/* Put this line into one C file: const isodyne_controller_info isodyne_info = CTL_INFO; */
#define CTL_INFO \
  {ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof(ctl_reads), (uint32_t)sizeof(ctl_writes), 0u, \
   UINT64_C(0x22867a83354e35c2)}

extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;
ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);
ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const ctl_reads *reads, ctl_writes *writes);
ISODYNE_EXPORT void isodyne_close(void *self);
/* Not needed; see isodyne/controller.h. */
ISODYNE_EXPORT int isodyne_copied(void *self);

#endif
