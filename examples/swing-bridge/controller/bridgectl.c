/* Controller of the swing bridge at Osier Reach: barriers, wedges, deck, and back again.
 *
 * It sees the bridge only through the packed words of box_in and acts only through those of box_out. Angles are those
 * of the encoder, in rad; the drive is a share of its nominal torque.
 */
#include "bridgectl_channels.h"

#include <stdlib.h>

const isodyne_controller_info isodyne_info = BOX_INFO;

enum phase { ROAD, SHUT_BARRIERS, PULL_WEDGES, TURN_OUT, BOATS, TURN_BACK, PUSH_WEDGES, LIFT_BARRIERS, ALARM };

static const double DEGREE = 0.017453292519943295;
static const double OPEN = 89.6;             /* the deck is out of the way, degrees */
static const double SLOW_DOWN = 60.0;        /* full speed until this angle is travelled, degrees */
static const double TOO_LONG = 90.0;         /* no turn takes longer, s */
/* The slower of wedges and barriers, and as much again. */
static const double TRAVEL = 2.0 * (BOX_WEDGES_DURATION > BOX_BARRIERS_DURATION ? BOX_WEDGES_DURATION : BOX_BARRIERS_DURATION);
static const double CLEAR_FOR = 3.0;         /* no boat waits any more for this long, s */

typedef struct controller {
  double period;   /* s */
  double in_phase; /* s */
  double clear;    /* since when no boat waits, s */
  enum phase phase;
  uint64_t counter;
  bool heard;
} controller;

static void go(controller *c, enum phase next) {
  c->phase = next;
  c->in_phase = 0;
  c->clear = 0;
}

/* Torque towards an angle: full at first, then less and less; at the end what moves the deck slowly. */
static double towards(double angle, double target) {
  const double left = target - angle;
  const double size = left < 0 ? -left : left;
  double drive = size > 90.0 - SLOW_DOWN ? 0.5 : 0.5 * size / (90.0 - SLOW_DOWN);
  if (drive < 0.04) drive = 0.04;
  return left < 0 ? -drive : drive;
}

/* A frame that stands still, of another version, or with switches that exclude each other is not believed. */
static bool plausible(controller *c, const box_in_frame *in) {
  const uint64_t counter = box_in_get_counter(in);
  const bool alive = !c->heard || counter == ((c->counter + 1) & 0xff);
  c->counter = counter;
  c->heard = true;
  const bool wedges = box_in_get_wedges_in(in) && box_in_get_wedges_clear(in);
  const bool barriers = box_in_get_barriers_shut(in) && box_in_get_barriers_open(in);
  return alive && box_in_get_version(in) == 3 && !wedges && !barriers;
}

static void next_phase(controller *c, const box_in_frame *in, double angle) {
  c->clear = box_in_get_boat_waiting(in) ? 0 : c->clear + c->period;
  switch (c->phase) {
    case ROAD:
      if (box_in_get_boat_waiting(in)) go(c, SHUT_BARRIERS);
      break;
    case SHUT_BARRIERS:
      if (box_in_get_barriers_shut(in)) go(c, PULL_WEDGES);
      break;
    case PULL_WEDGES:
      if (box_in_get_wedges_clear(in)) go(c, TURN_OUT);
      break;
    case TURN_OUT:
      if (angle > OPEN) go(c, BOATS);
      break;
    case BOATS:
      if (c->clear > CLEAR_FOR) go(c, TURN_BACK);
      break;
    case TURN_BACK:
      if (angle < 0.05) go(c, PUSH_WEDGES);
      break;
    case PUSH_WEDGES:
      if (box_in_get_wedges_in(in)) go(c, LIFT_BARRIERS);
      break;
    case LIFT_BARRIERS:
      if (box_in_get_barriers_open(in)) go(c, ROAD);
      break;
    case ALARM:
      break;
  }
}

static void answer(const controller *c, double angle, box_out_frame *out) {
  const bool turning = c->phase == TURN_OUT || c->phase == TURN_BACK;
  const bool wedges = c->phase >= PULL_WEDGES && c->phase <= TURN_BACK;
  box_out_set_brake_off(out, turning);
  box_out_set_wedges_out(out, wedges);
  box_out_set_barriers_up(out, c->phase == ROAD || c->phase == LIFT_BARRIERS);
  box_out_set_lamp(out, c->phase == BOATS ? LAMP_GREEN : LAMP_RED);
  box_out_set_drive_value(out, turning ? towards(angle, c->phase == TURN_OUT ? 90.0 : 0.0) : 0.0);
  box_out_set_alarm(out, c->phase == ALARM);
  box_out_set_phase(out, (uint64_t)c->phase);
}

int isodyne_init(void **self, int64_t period_ns) {
  controller *c = calloc(1, sizeof *c);
  if (c == NULL) return 1;
  c->period = (double)period_ns / 1e9;
  *self = c;
  return 0;
}

int isodyne_step(void *self, int64_t time_ns, const box_reads *reads, box_writes *writes) {
  (void)time_ns;
  controller *c = self;
  const box_in_frame *in = &reads->box_in;
  const double angle = box_in_get_turn_value(in) / DEGREE;
  c->in_phase += c->period;
  const bool turning = c->phase == TURN_OUT || c->phase == TURN_BACK;
  const bool moving = c->phase != ROAD && c->phase != BOATS;
  if (!plausible(c, in) || (moving && c->in_phase > (turning ? TOO_LONG : TRAVEL))) go(c, ALARM);
  next_phase(c, in, angle);
  answer(c, angle, &writes->box_out);
  return 0;
}

void isodyne_close(void *self) { free(self); }

/* All it remembers is in its memory: a copy of the process has a controller of its own. */
int isodyne_copied(void *self) {
  (void)self;
  return 0;
}
