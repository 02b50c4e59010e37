/* Channels of controller `plc` on bench HarrowLock.
 * Written by `isodyne export header`; do not edit: change the bench and export again.
 * Real members are in the SI unit named behind them. */
#ifndef ISODYNE_HARROWLOCK_PLC_H
#define ISODYNE_HARROWLOCK_PLC_H

#include <assert.h>
#include <stddef.h>

#include "isodyne/controller.h"

/* Push */
enum {
  PUSH_NONE = 0,
  PUSH_OPEN = 1,
  PUSH_SHUT = 2
};

/* Request */
enum {
  REQUEST_NONE = 0,
  REQUEST_UP = 1,
  REQUEST_DOWN = 2
};

typedef struct plc_reads {
  double chamber_level; /* m: LT-1: level in the chamber */
  double pound_level; /* m: LT-2: level of the upper pound */
  double tail_level; /* m: LT-3: level of the lower pound */
  bool upper_open; /* bool: GS-1: upper gates fully open */
  bool upper_shut; /* bool: GS-2: upper gates shut */
  bool lower_open; /* bool: GS-3: lower gates fully open */
  bool lower_shut; /* bool: GS-4: lower gates shut */
  bool berth_taken; /* bool: BS-1: a boat lies in the chamber */
  bool gate_taken; /* bool: BS-2: a boat is between gate posts */
  int32_t request; /* none|up|down: what the lock keeper asks for */
} plc_reads;
static_assert(sizeof(plc_reads) == 40, "layout of plc_reads");
static_assert(offsetof(plc_reads, chamber_level) == 0, "layout of plc_reads");
static_assert(offsetof(plc_reads, pound_level) == 8, "layout of plc_reads");
static_assert(offsetof(plc_reads, tail_level) == 16, "layout of plc_reads");
static_assert(offsetof(plc_reads, upper_open) == 24, "layout of plc_reads");
static_assert(offsetof(plc_reads, upper_shut) == 25, "layout of plc_reads");
static_assert(offsetof(plc_reads, lower_open) == 26, "layout of plc_reads");
static_assert(offsetof(plc_reads, lower_shut) == 27, "layout of plc_reads");
static_assert(offsetof(plc_reads, berth_taken) == 28, "layout of plc_reads");
static_assert(offsetof(plc_reads, gate_taken) == 29, "layout of plc_reads");
static_assert(offsetof(plc_reads, request) == 32, "layout of plc_reads");

typedef struct plc_writes {
  double fill_paddle; /* 1: paddles between the upper pound and the chamber, 0 shut to 1 open */
  double drain_paddle; /* 1: paddles between the chamber and the lower pound, 0 shut to 1 open */
  int32_t upper_gate; /* none|open|shut: motors of the upper gates */
  int32_t lower_gate; /* none|open|shut: motors of the lower gates */
  bool upper_light; /* bool: green light for boats at the upper gates */
  bool lower_light; /* bool: green light for boats at the lower gates */
  bool alarm; /* bool */
  int32_t phase; /* int */
} plc_writes;
static_assert(sizeof(plc_writes) == 32, "layout of plc_writes");
static_assert(offsetof(plc_writes, fill_paddle) == 0, "layout of plc_writes");
static_assert(offsetof(plc_writes, drain_paddle) == 8, "layout of plc_writes");
static_assert(offsetof(plc_writes, upper_gate) == 16, "layout of plc_writes");
static_assert(offsetof(plc_writes, lower_gate) == 20, "layout of plc_writes");
static_assert(offsetof(plc_writes, upper_light) == 24, "layout of plc_writes");
static_assert(offsetof(plc_writes, lower_light) == 25, "layout of plc_writes");
static_assert(offsetof(plc_writes, alarm) == 26, "layout of plc_writes");
static_assert(offsetof(plc_writes, phase) == 28, "layout of plc_writes");

#define PLC_PERIOD_NS INT64_C(20000000)

/* Put this line into one C file: const isodyne_controller_info isodyne_info = PLC_INFO; */
#define PLC_INFO \
  {ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof(plc_reads), (uint32_t)sizeof(plc_writes), 0u, \
   UINT64_C(0x484e697145e5a8d8)}

extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;
ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);
ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const plc_reads *reads, plc_writes *writes);
ISODYNE_EXPORT void isodyne_close(void *self);
/* Not needed; see isodyne/controller.h. */
ISODYNE_EXPORT int isodyne_copied(void *self);

#endif
