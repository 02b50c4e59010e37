/* Channels of controller `box` on bench OsierBridge.
 * Written by `isodyne export header`; do not edit: change the bench and export again.
 * Real members are in the SI unit named behind them. */
#ifndef ISODYNE_OSIERBRIDGE_BOX_H
#define ISODYNE_OSIERBRIDGE_BOX_H

#include <assert.h>
#include <stddef.h>

#include "isodyne/controller.h"

/* Lamp */
enum {
  LAMP_DARK = 0,
  LAMP_RED = 1,
  LAMP_GREEN = 2
};

/* Frame box_in: 3 words, the most significant byte of each first. Bits are numbered from the least significant one. */
typedef struct box_in_frame {
  uint8_t byte[24];
} box_in_frame;
static_assert(sizeof(box_in_frame) == 24, "layout of box_in_frame");

static inline uint64_t box_in_bits(const box_in_frame *frame, unsigned n, unsigned shift, uint64_t mask) {
  const uint8_t *b = frame->byte + 8u * n;
  const uint64_t word = (uint64_t)b[0] << 56 | (uint64_t)b[1] << 48 | (uint64_t)b[2] << 40 | (uint64_t)b[3] << 32 |
                         (uint64_t)b[4] << 24 | (uint64_t)b[5] << 16 | (uint64_t)b[6] << 8 | (uint64_t)b[7] << 0;
  return word >> shift & mask;
}
static inline void box_in_put(box_in_frame *frame, unsigned n, unsigned shift, uint64_t mask, uint64_t bits) {
  uint8_t *b = frame->byte + 8u * n;
  const uint64_t word = (box_in_bits(frame, n, 0, UINT64_MAX) & ~(mask << shift)) | (bits & mask) << shift;
  b[0] = (uint8_t)(word >> 56);
  b[1] = (uint8_t)(word >> 48);
  b[2] = (uint8_t)(word >> 40);
  b[3] = (uint8_t)(word >> 32);
  b[4] = (uint8_t)(word >> 24);
  b[5] = (uint8_t)(word >> 16);
  b[6] = (uint8_t)(word >> 8);
  b[7] = (uint8_t)(word >> 0);
}

/* word 0 */
static inline uint64_t box_in_get_time(const box_in_frame *frame) {
  return box_in_bits(frame, 0, 0, UINT64_MAX);
}
static inline void box_in_set_time(box_in_frame *frame, uint64_t value) {
  box_in_put(frame, 0, 0, UINT64_MAX, (uint64_t)value);
}

/* bit 0 of word 1: GS-1: wedges under the deck */
static inline bool box_in_get_wedges_in(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 0, UINT64_C(0x1)) != 0;
}
static inline void box_in_set_wedges_in(box_in_frame *frame, bool value) {
  box_in_put(frame, 1, 0, UINT64_C(0x1), (uint64_t)value);
}

/* bit 1 of word 1: GS-2: wedges clear of the deck */
static inline bool box_in_get_wedges_clear(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 1, UINT64_C(0x1)) != 0;
}
static inline void box_in_set_wedges_clear(box_in_frame *frame, bool value) {
  box_in_put(frame, 1, 1, UINT64_C(0x1), (uint64_t)value);
}

/* bit 2 of word 1: GS-3: barriers across the road */
static inline bool box_in_get_barriers_shut(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 2, UINT64_C(0x1)) != 0;
}
static inline void box_in_set_barriers_shut(box_in_frame *frame, bool value) {
  box_in_put(frame, 1, 2, UINT64_C(0x1), (uint64_t)value);
}

/* bit 3 of word 1: GS-4: barriers up */
static inline bool box_in_get_barriers_open(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 3, UINT64_C(0x1)) != 0;
}
static inline void box_in_set_barriers_open(box_in_frame *frame, bool value) {
  box_in_put(frame, 1, 3, UINT64_C(0x1), (uint64_t)value);
}

/* bit 7 of word 1: the bridge keeper asks for passage */
static inline bool box_in_get_boat_waiting(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 7, UINT64_C(0x1)) != 0;
}
static inline void box_in_set_boat_waiting(box_in_frame *frame, bool value) {
  box_in_put(frame, 1, 7, UINT64_C(0x1), (uint64_t)value);
}

/* bits 8 .. 15 of word 1 */
static inline uint64_t box_in_get_counter(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 8, UINT64_C(0xff));
}
static inline void box_in_set_counter(box_in_frame *frame, uint64_t value) {
  if (value > UINT64_C(0xff)) value = UINT64_C(0xff);
  box_in_put(frame, 1, 8, UINT64_C(0xff), (uint64_t)value);
}

/* bits 16 .. 27 of word 1: IT-1: current of the motor */
static inline uint64_t box_in_get_motor_current(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 16, UINT64_C(0xfff));
}
static inline void box_in_set_motor_current(box_in_frame *frame, uint64_t value) {
  if (value > UINT64_C(0xfff)) value = UINT64_C(0xfff);
  box_in_put(frame, 1, 16, UINT64_C(0xfff), (uint64_t)value);
}
/* The quantity in A, and the number nearest to it. What is no number becomes the lowest. */
static inline double box_in_get_motor_current_value(const box_in_frame *frame) {
  return (-20.0) + (0.02) * (double)box_in_get_motor_current(frame);
}
static inline void box_in_set_motor_current_value(box_in_frame *frame, double value) {
  const double counts = (value - (-20.0)) / (0.02);
  const double least = (double)UINT64_C(0), most = (double)UINT64_C(0xfff);
  box_in_set_motor_current(frame, !(counts > least) ? UINT64_C(0) : counts > most ? UINT64_C(0xfff)
                     : (uint64_t)(counts < 0 ? counts - 0.5 : counts + 0.5));
}

/* bits 32 .. 47 of word 1, signed: WT-1: torque of the wind, from the strain of the pivot */
static inline int64_t box_in_get_wind_torque(const box_in_frame *frame) {
  return (int64_t)(box_in_bits(frame, 1, 32, UINT64_C(0xffff)) ^ UINT64_C(1) << 15) - (INT64_C(1) << 15);
}
static inline void box_in_set_wind_torque(box_in_frame *frame, int64_t value) {
  if (value < -INT64_C(32768)) value = -INT64_C(32768);
  if (value > INT64_C(32767)) value = INT64_C(32767);
  box_in_put(frame, 1, 32, UINT64_C(0xffff), (uint64_t)value);
}
/* The quantity in J, and the number nearest to it. What is no number becomes the lowest. */
static inline double box_in_get_wind_torque_value(const box_in_frame *frame) {
  return (0.0) + (10.0) * (double)box_in_get_wind_torque(frame);
}
static inline void box_in_set_wind_torque_value(box_in_frame *frame, double value) {
  const double counts = (value - (0.0)) / (10.0);
  const double least = (double)-INT64_C(32768), most = (double)INT64_C(32767);
  box_in_set_wind_torque(frame, !(counts > least) ? -INT64_C(32768) : counts > most ? INT64_C(32767)
                     : (int64_t)(counts < 0 ? counts - 0.5 : counts + 0.5));
}

/* bits 0 .. 23 of word 2, signed: EN-1: encoder on the pivot, behind a gear of 1:36 */
static inline int64_t box_in_get_turn(const box_in_frame *frame) {
  return (int64_t)(box_in_bits(frame, 2, 0, UINT64_C(0xffffff)) ^ UINT64_C(1) << 23) - (INT64_C(1) << 23);
}
static inline void box_in_set_turn(box_in_frame *frame, int64_t value) {
  if (value < -INT64_C(8388608)) value = -INT64_C(8388608);
  if (value > INT64_C(8388607)) value = INT64_C(8388607);
  box_in_put(frame, 2, 0, UINT64_C(0xffffff), (uint64_t)value);
}
/* The quantity in rad, and the number nearest to it. What is no number becomes the lowest. */
static inline double box_in_get_turn_value(const box_in_frame *frame) {
  return (0.0) + (4.261057744126781e-05) * (double)box_in_get_turn(frame);
}
static inline void box_in_set_turn_value(box_in_frame *frame, double value) {
  const double counts = (value - (0.0)) / (4.261057744126781e-05);
  const double least = (double)-INT64_C(8388608), most = (double)INT64_C(8388607);
  box_in_set_turn(frame, !(counts > least) ? -INT64_C(8388608) : counts > most ? INT64_C(8388607)
                     : (int64_t)(counts < 0 ? counts - 0.5 : counts + 0.5));
}

/* bits 56 .. 63 of word 2 */
static inline uint64_t box_in_get_version(const box_in_frame *frame) {
  return box_in_bits(frame, 2, 56, UINT64_C(0xff));
}
static inline void box_in_set_version(box_in_frame *frame, uint64_t value) {
  if (value > UINT64_C(0xff)) value = UINT64_C(0xff);
  box_in_put(frame, 2, 56, UINT64_C(0xff), (uint64_t)value);
}

/* bits 0 .. 7 of word 1: several fields as one number: all limit switches at once */
static inline uint64_t box_in_get_switches(const box_in_frame *frame) {
  return box_in_bits(frame, 1, 0, UINT64_C(0xff));
}

/* Frame box_out: 1 word, the most significant byte of each first. Bits are numbered from the least significant one. */
typedef struct box_out_frame {
  uint8_t byte[8];
} box_out_frame;
static_assert(sizeof(box_out_frame) == 8, "layout of box_out_frame");

static inline uint64_t box_out_bits(const box_out_frame *frame, unsigned n, unsigned shift, uint64_t mask) {
  const uint8_t *b = frame->byte + 8u * n;
  const uint64_t word = (uint64_t)b[0] << 56 | (uint64_t)b[1] << 48 | (uint64_t)b[2] << 40 | (uint64_t)b[3] << 32 |
                         (uint64_t)b[4] << 24 | (uint64_t)b[5] << 16 | (uint64_t)b[6] << 8 | (uint64_t)b[7] << 0;
  return word >> shift & mask;
}
static inline void box_out_put(box_out_frame *frame, unsigned n, unsigned shift, uint64_t mask, uint64_t bits) {
  uint8_t *b = frame->byte + 8u * n;
  const uint64_t word = (box_out_bits(frame, n, 0, UINT64_MAX) & ~(mask << shift)) | (bits & mask) << shift;
  b[0] = (uint8_t)(word >> 56);
  b[1] = (uint8_t)(word >> 48);
  b[2] = (uint8_t)(word >> 40);
  b[3] = (uint8_t)(word >> 32);
  b[4] = (uint8_t)(word >> 24);
  b[5] = (uint8_t)(word >> 16);
  b[6] = (uint8_t)(word >> 8);
  b[7] = (uint8_t)(word >> 0);
}

/* bit 0 of word 0: true lets go */
static inline bool box_out_get_brake_off(const box_out_frame *frame) {
  return box_out_bits(frame, 0, 0, UINT64_C(0x1)) != 0;
}
static inline void box_out_set_brake_off(box_out_frame *frame, bool value) {
  box_out_put(frame, 0, 0, UINT64_C(0x1), (uint64_t)value);
}

/* bit 1 of word 0: true pulls the wedges */
static inline bool box_out_get_wedges_out(const box_out_frame *frame) {
  return box_out_bits(frame, 0, 1, UINT64_C(0x1)) != 0;
}
static inline void box_out_set_wedges_out(box_out_frame *frame, bool value) {
  box_out_put(frame, 0, 1, UINT64_C(0x1), (uint64_t)value);
}

/* bit 2 of word 0: true lifts the barriers; they fall shut */
static inline bool box_out_get_barriers_up(const box_out_frame *frame) {
  return box_out_bits(frame, 0, 2, UINT64_C(0x1)) != 0;
}
static inline void box_out_set_barriers_up(box_out_frame *frame, bool value) {
  box_out_put(frame, 0, 2, UINT64_C(0x1), (uint64_t)value);
}

/* bit 3 of word 0: the box has given up */
static inline bool box_out_get_alarm(const box_out_frame *frame) {
  return box_out_bits(frame, 0, 3, UINT64_C(0x1)) != 0;
}
static inline void box_out_set_alarm(box_out_frame *frame, bool value) {
  box_out_put(frame, 0, 3, UINT64_C(0x1), (uint64_t)value);
}

/* bits 4 .. 5 of word 0: light for boats */
static inline uint64_t box_out_get_lamp(const box_out_frame *frame) {
  return box_out_bits(frame, 0, 4, UINT64_C(0x3));
}
static inline void box_out_set_lamp(box_out_frame *frame, uint64_t value) {
  if (value > UINT64_C(0x3)) value = UINT64_C(0x3);
  box_out_put(frame, 0, 4, UINT64_C(0x3), (uint64_t)value);
}

/* bits 16 .. 27 of word 0, signed: torque asked of the drive */
static inline int64_t box_out_get_drive(const box_out_frame *frame) {
  return (int64_t)(box_out_bits(frame, 0, 16, UINT64_C(0xfff)) ^ UINT64_C(1) << 11) - (INT64_C(1) << 11);
}
static inline void box_out_set_drive(box_out_frame *frame, int64_t value) {
  if (value < -INT64_C(2048)) value = -INT64_C(2048);
  if (value > INT64_C(2047)) value = INT64_C(2047);
  box_out_put(frame, 0, 16, UINT64_C(0xfff), (uint64_t)value);
}
/* The quantity in 1, and the number nearest to it. What is no number becomes the lowest. */
static inline double box_out_get_drive_value(const box_out_frame *frame) {
  return (0.0) + (0.001) * (double)box_out_get_drive(frame);
}
static inline void box_out_set_drive_value(box_out_frame *frame, double value) {
  const double counts = (value - (0.0)) / (0.001);
  const double least = (double)-INT64_C(2048), most = (double)INT64_C(2047);
  box_out_set_drive(frame, !(counts > least) ? -INT64_C(2048) : counts > most ? INT64_C(2047)
                     : (int64_t)(counts < 0 ? counts - 0.5 : counts + 0.5));
}

/* bits 32 .. 35 of word 0: where the sequence stands */
static inline uint64_t box_out_get_phase(const box_out_frame *frame) {
  return box_out_bits(frame, 0, 32, UINT64_C(0xf));
}
static inline void box_out_set_phase(box_out_frame *frame, uint64_t value) {
  if (value > UINT64_C(0xf)) value = UINT64_C(0xf);
  box_out_put(frame, 0, 32, UINT64_C(0xf), (uint64_t)value);
}

typedef struct box_reads {
  box_in_frame box_in; /* 3 words of 64 bits: What the box gets, every 10 ms. */
} box_reads;
static_assert(sizeof(box_reads) == 24, "layout of box_reads");
static_assert(offsetof(box_reads, box_in) == 0, "layout of box_reads");

typedef struct box_writes {
  box_out_frame box_out; /* 1 word of 64 bits: What the box answers. */
} box_writes;
static_assert(sizeof(box_writes) == 8, "layout of box_writes");
static_assert(offsetof(box_writes, box_out) == 0, "layout of box_writes");

/* Parameters of the plant that the bench shares with this controller. */
#define BOX_DECK_NOMINAL 40.0 /* A: of the motor */
#define BOX_WEDGES_DURATION 5.0 /* s: from one end to the other */
#define BOX_BARRIERS_DURATION 8.0 /* s: from one end to the other */

typedef struct box_parameters {
  double deck_nominal; /* A: of the motor */
  double wedges_duration; /* s: from one end to the other */
  double barriers_duration; /* s: from one end to the other */
} box_parameters;
static_assert(sizeof(box_parameters) == 24, "layout of box_parameters");
static_assert(offsetof(box_parameters, deck_nominal) == 0, "layout of box_parameters");
static_assert(offsetof(box_parameters, wedges_duration) == 8, "layout of box_parameters");
static_assert(offsetof(box_parameters, barriers_duration) == 16, "layout of box_parameters");

#define BOX_PARAMETERS {40.0, 5.0, 8.0}

#define BOX_PERIOD_NS INT64_C(10000000)

/* Put this line into one C file: const isodyne_controller_info isodyne_info = BOX_INFO; */
#define BOX_INFO \
  {ISODYNE_CONTROLLER_VERSION, (uint32_t)sizeof(box_reads), (uint32_t)sizeof(box_writes), 0u, \
   UINT64_C(0x0b66692ff25a51ea)}

extern ISODYNE_EXPORT const isodyne_controller_info isodyne_info;
ISODYNE_EXPORT int isodyne_init(void **self, int64_t period_ns);
ISODYNE_EXPORT int isodyne_step(void *self, int64_t time_ns, const box_reads *reads, box_writes *writes);
ISODYNE_EXPORT void isodyne_close(void *self);
/* Not needed; see isodyne/controller.h. */
ISODYNE_EXPORT int isodyne_copied(void *self);

#endif
