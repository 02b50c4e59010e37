/* Controller of Harrow Lock: start-up, a sequence for a boat in either direction, interlocks, an alarm.
 *
 * It knows the lock only through plc_reads and acts only through plc_writes. All quantities are in SI units.
 *
 * Known weakness, kept on purpose for the demonstration: it believes level transmitter LT-1 as long as the
 * level moves. A transmitter that drifts slowly makes it open the gates against a head of water.
 */
#include "lockctl_channels.h"

#include <math.h>
#include <stdlib.h>

const isodyne_controller_info isodyne_info = PLC_INFO;

enum phase {
  STARTING,
  IDLE,
  LEVEL_FOR_ENTRY,
  OPEN_ENTRY,
  BOAT_ENTERS,
  SHUT_ENTRY,
  LEVEL_FOR_EXIT,
  OPEN_EXIT,
  BOAT_LEAVES,
  SHUT_EXIT,
  ALARM
};

static const double EQUAL = 0.04;            /* levels count as equal, m */
static const double EQUAL_FOR = 2.0;         /* for this long, s */
static const double GENTLE_ABOVE = 1.6;      /* half paddles while the head is larger, m */
static const double START_UP = 2.0;          /* s */
static const double GATE_TIME = 100.0;       /* a gate that takes longer is stuck, s */
static const double ENTER_TIME = 600.0;      /* a boat that takes longer has gone home, s */
static const double SIGN_OF_LIFE = 0.02;     /* the level must move by this much, m, */
static const double SIGN_OF_LIFE_IN = 20.0;  /* in this time, s, while paddles are open */

typedef struct controller {
  double period;  /* s */
  enum phase phase;
  bool upwards;       /* direction of the present boat */
  double in_phase;    /* time in this phase, s */
  double equal_for;   /* how long the levels have been equal, s */
  double watched_for; /* since the reference level was taken, s */
  double watched_level;
  bool boat_in_gate_seen;
} controller;

static void go(controller *c, enum phase next) {
  c->phase = next;
  c->in_phase = 0;
  c->equal_for = 0;
  c->watched_for = -1;
  c->boat_in_gate_seen = false;
}

static bool plausible(double level) { return level > 0.1 && level < 9.9; }

/* The side of the present phase: true for the upper one. */
static bool entry_is_upper(const controller *c) { return !c->upwards; }

static void push_gate(plc_writes *w, bool upper, int32_t order) {
  if (upper)
    w->upper_gate = order;
  else
    w->lower_gate = order;
}

static bool gate_open(const plc_reads *r, bool upper) { return upper ? r->upper_open : r->lower_open; }
static bool gate_shut(const plc_reads *r, bool upper) { return upper ? r->upper_shut : r->lower_shut; }

/* True if paddles are open, water should flow, and the level has not moved for too long. */
static bool level_is_dead(controller *c, const plc_reads *r, double head) {
  if (fabs(head) < 0.2) {
    c->watched_for = -1;
    return false;
  }
  if (c->watched_for < 0 || fabs(r->chamber_level - c->watched_level) > SIGN_OF_LIFE) {
    c->watched_for = 0;
    c->watched_level = r->chamber_level;
  }
  c->watched_for += c->period;
  return c->watched_for > SIGN_OF_LIFE_IN;
}

/* Brings the chamber to the level of one side; true when it is there. */
static bool level_to(controller *c, const plc_reads *r, plc_writes *w, bool upper) {
  const double head = (upper ? r->pound_level : r->tail_level) - r->chamber_level;
  const bool equal = fabs(head) < EQUAL;
  const double lift = fabs(head) > GENTLE_ABOVE ? 0.5 : 1.0;
  if (!r->upper_shut || !r->lower_shut) { /* interlock: paddles only with both gates shut */
    go(c, ALARM);
    return false;
  }
  if (upper)
    w->fill_paddle = lift;
  else
    w->drain_paddle = lift;
  if (level_is_dead(c, r, head)) {
    go(c, ALARM);
    return false;
  }
  c->equal_for = equal ? c->equal_for + c->period : 0;
  return c->equal_for >= EQUAL_FOR;
}

/* Opens one pair of gates; the paddle of that side stays open so that the levels stay equal. */
static void open_gates(controller *c, const plc_reads *r, plc_writes *w, bool upper, enum phase next) {
  if (!gate_shut(r, !upper) || c->in_phase > GATE_TIME) {
    go(c, ALARM);
    return;
  }
  if (upper)
    w->fill_paddle = 1.0;
  else
    w->drain_paddle = 1.0;
  push_gate(w, upper, PUSH_OPEN);
  if (gate_open(r, upper)) go(c, next);
}

static void shut_gates(controller *c, const plc_reads *r, plc_writes *w, bool upper, enum phase next) {
  if (r->gate_taken) { /* interlock: never on a boat */
    c->in_phase = 0;
    return;
  }
  if (c->in_phase > GATE_TIME) {
    go(c, ALARM);
    return;
  }
  push_gate(w, upper, PUSH_SHUT);
  if (gate_shut(r, upper)) go(c, next);
}

static void start_up(controller *c, const plc_reads *r) {
  if (c->in_phase < START_UP) return;
  const bool levels = plausible(r->chamber_level) && plausible(r->pound_level) && plausible(r->tail_level);
  go(c, levels && r->upper_shut && r->lower_shut ? IDLE : ALARM);
}

static void idle(controller *c, const plc_reads *r) {
  if (r->request == REQUEST_NONE) return;
  c->upwards = r->request == REQUEST_UP;
  go(c, LEVEL_FOR_ENTRY);
}

static void boat_enters(controller *c, const plc_reads *r, plc_writes *w) {
  if (entry_is_upper(c))
    w->upper_light = true;
  else
    w->lower_light = true;
  if (r->berth_taken || c->in_phase > ENTER_TIME) go(c, SHUT_ENTRY);
}

static void boat_leaves(controller *c, const plc_reads *r, plc_writes *w) {
  if (entry_is_upper(c))
    w->lower_light = true;
  else
    w->upper_light = true;
  if (r->gate_taken) c->boat_in_gate_seen = true;
  if (c->boat_in_gate_seen && !r->gate_taken && !r->berth_taken) go(c, SHUT_EXIT);
}

static void act(controller *c, const plc_reads *r, plc_writes *w) {
  const bool entry = entry_is_upper(c), exit = !entry;
  switch (c->phase) {
    case STARTING:
      start_up(c, r);
      break;
    case IDLE:
      idle(c, r);
      break;
    case LEVEL_FOR_ENTRY:
      if (level_to(c, r, w, entry)) go(c, OPEN_ENTRY);
      break;
    case OPEN_ENTRY:
      open_gates(c, r, w, entry, BOAT_ENTERS);
      break;
    case BOAT_ENTERS:
      boat_enters(c, r, w);
      break;
    case SHUT_ENTRY:
      shut_gates(c, r, w, entry, LEVEL_FOR_EXIT);
      break;
    case LEVEL_FOR_EXIT:
      if (level_to(c, r, w, exit)) go(c, OPEN_EXIT);
      break;
    case OPEN_EXIT:
      open_gates(c, r, w, exit, BOAT_LEAVES);
      break;
    case BOAT_LEAVES:
      boat_leaves(c, r, w);
      break;
    case SHUT_EXIT:
      shut_gates(c, r, w, exit, IDLE);
      break;
    case ALARM:
      break;
  }
}

int isodyne_init(void **self, int64_t period_ns) {
  controller *c = calloc(1, sizeof *c);
  if (c == NULL) return 1;
  c->period = (double)period_ns * 1e-9;
  go(c, STARTING);
  *self = c;
  return 0;
}

int isodyne_step(void *self, int64_t time_ns, const plc_reads *reads, plc_writes *writes) {
  controller *c = self;
  (void)time_ns;
  /* Everything off unless the present phase asks for it. */
  writes->fill_paddle = writes->drain_paddle = 0.0;
  writes->upper_gate = writes->lower_gate = PUSH_NONE;
  writes->upper_light = writes->lower_light = false;
  c->in_phase += c->period;
  act(c, reads, writes);
  if (c->phase == ALARM) { /* safe state: no water, no movement, red everywhere; latched */
    writes->fill_paddle = writes->drain_paddle = 0.0;
    writes->upper_gate = writes->lower_gate = PUSH_NONE;
    writes->upper_light = writes->lower_light = false;
  }
  writes->alarm = c->phase == ALARM;
  writes->phase = (int32_t)c->phase;
  return 0;
}

void isodyne_close(void *self) { free(self); }

/* All it remembers is in its memory: a copy of the process has a controller of its own. */
int isodyne_copied(void *self) {
  (void)self;
  return 0;
}
