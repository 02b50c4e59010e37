/* Controller of the launch: makes the voltage of her board, with a frequency that falls with the power and an amplitude
 * that falls with the reactive power, closes the breaker when its spring is wound, and trips. Amplitudes throughout. */
#include "launchctl_channels.h"

#include <math.h>
#include <stdlib.h>

const isodyne_controller_info isodyne_info = CTL_INFO;

static const double kPeriod = 50e-6;       /* s, of the control and of the carriers */
static const double kDeadTime = 0.6e-6;    /* s */
static const double kTurn = 6.283185307179586;
static const double kRise = 330.0 / 0.15;  /* V/s, of the voltage at the start */
static const double kIntegral = 180.0;     /* 1/s, of the voltage's control */
static const double kDamping = 3.0;        /* V/A, against what the filter does quicker than kSlow */
static const double kSlow = 1.5e-3;        /* s */
static const double kSmooth = 6e-3;        /* s, of the powers */
static const double kMostCurrent = 220.0;  /* A: more is a trip */
static const double kEven = 0.002;         /* 1/V: of how uneven the halves of the link are, into the third level */
static const double kThere = 0.97;         /* share of the voltage from which on it is there */

typedef struct {
  double angle, target;       /* rad; V, as far as it has risen */
  double sum_d, sum_q;        /* V */
  double slow_d, slow_q;      /* A */
  double active, reactive;    /* W */
  double amplitude;           /* V, smoothed */
  double closed_for;          /* s */
  bool last[12];              /* gates at the end of the last period */
  int32_t stage;
} Control;

int isodyne_init(void **self, int64_t period_ns) {
  if (period_ns != CTL_PERIOD_NS) return 1;
  *self = calloc(1, sizeof(Control));
  return *self == NULL ? 2 : 0;
}

void isodyne_close(void *self) {
  free(self);
}

static double limited(double x, double most) {
  return x > most ? most : x < -most ? -most : x;
}

/* Into the frame that stands at `angle`. */
static void turn(const double x[3], double angle, double *d, double *q) {
  const double a = (2 * x[0] - x[1] - x[2]) / 3, b = (x[1] - x[2]) / sqrt(3.0);
  *d = a * cos(angle) + b * sin(angle);
  *q = b * cos(angle) - a * sin(angle);
}

/* Two transistors of which one is on while the other is off, over the next period: the upper one for a share of it, in
 * the middle; each comes on a dead time after the other has gone. A share of all or nothing has no edges. */
static void pair(isodyne_gate *upper, isodyne_gate *lower, double share) {
  const double least = 3 * kDeadTime / kPeriod;
  if (share < least || share > 1 - least) {
    *upper = (isodyne_gate){.on = share > 0.5};
    *lower = (isodyne_gate){.on = share <= 0.5};
    return;
  }
  const double off = kPeriod * (1 - share) / 2;
  const int32_t rise = (int32_t)lround(1e9 * off), fall = (int32_t)lround(1e9 * (kPeriod - off));
  const int32_t dead = (int32_t)lround(1e9 * kDeadTime);
  *upper = (isodyne_gate){.on = false, .edges = 2, .at_ns = {rise + dead, fall}};
  *lower = (isodyne_gate){.on = true, .edges = 2, .at_ns = {rise, fall + dead}};
}

/* A leg for a level from -1 to 1: the upper half of it chops between middle and top, the lower one between bottom and
 * middle. Who was on at the end of the last period and is to be off now goes first, for the dead time. */
static void leg(isodyne_gate gate[4], double level) {
  if (level >= 0) {
    pair(&gate[0], &gate[2], level);
    gate[1] = (isodyne_gate){.on = true};
    gate[3] = (isodyne_gate){.on = false};
  } else {
    pair(&gate[1], &gate[3], 1 + level);
    gate[0] = (isodyne_gate){.on = false};
    gate[2] = (isodyne_gate){.on = true};
  }
}

/* A gate that comes on at the beginning of a period at which its opposite goes waits for the dead time. */
static void wait_for(isodyne_gate *gate, bool opposite_was) {
  if (!opposite_was || !gate->on) return;
  const int32_t dead = (int32_t)lround(1e9 * kDeadTime);
  if (gate->edges > 0 && gate->at_ns[0] <= dead) {
    for (int k = 1; k < gate->edges; ++k) gate->at_ns[k - 1] = gate->at_ns[k];
    --gate->edges;
    gate->on = false;
    return;
  }
  for (int k = gate->edges; k > 0; --k) gate->at_ns[k] = gate->at_ns[k - 1];
  gate->at_ns[0] = dead;
  ++gate->edges;
  gate->on = false;
}

static int32_t next_stage(Control *c, const ctl_reads *r) {
  double most = 0;
  for (int k = 0; k < 3; ++k) most = fmax(most, fabs(r->current[k]));
  if (most > kMostCurrent || c->stage == STAGE_TRIPPED) return STAGE_TRIPPED;
  if (!r->wanted) return STAGE_OFF;
  c->closed_for = r->closed ? c->closed_for + kPeriod : 0;
  switch (c->stage) {
    case STAGE_OFF:
      return STAGE_STARTING;
    case STAGE_STARTING:
      return c->amplitude > kThere * r->set_voltage ? STAGE_WAITING : STAGE_STARTING;
    case STAGE_WAITING:
      return c->closed_for > 10e-3 ? STAGE_FEEDING : STAGE_WAITING;
    default:
      return STAGE_FEEDING;
  }
}

int isodyne_step(void *self, int64_t time_ns, const ctl_reads *r, ctl_writes *w) {
  Control *c = self;
  (void)time_ns;
  double vd, vq, id, iq;
  turn(r->volts, c->angle, &vd, &vq);
  turn(r->current, c->angle, &id, &iq);
  c->amplitude += (hypot(vd, vq) - c->amplitude) * kPeriod / kSlow;
  c->active += (1.5 * (vd * id + vq * iq) - c->active) * kPeriod / kSmooth;
  c->reactive += (1.5 * (vq * id - vd * iq) - c->reactive) * kPeriod / kSmooth;
  c->slow_d += (id - c->slow_d) * kPeriod / kSlow;
  c->slow_q += (iq - c->slow_q) * kPeriod / kSlow;

  const int32_t stage = next_stage(c, r);
  c->stage = stage;
  const double frequency = r->set_frequency - r->droop * c->active;
  const bool on = stage != STAGE_OFF && stage != STAGE_TRIPPED;

  if (on) {
    const double wanted = r->set_voltage - r->voltage_droop * c->reactive;
    c->target = fmin(c->target + kRise * kPeriod, wanted);
    c->sum_d = limited(c->sum_d + kIntegral * (c->target - vd) * kPeriod, 60);
    c->sum_q = limited(c->sum_q + kIntegral * (0 - vq) * kPeriod, 60);
    const double ud = c->target + c->sum_d - kDamping * (id - c->slow_d);
    const double uq = c->sum_q - kDamping * (iq - c->slow_q);
    /* What is asked now is there one and a half periods later, on the average. */
    const double ahead = c->angle + 1.5 * kPeriod * kTurn * frequency;
    const double uneven = limited(kEven * (r->upper_volts - r->lower_volts), 0.05);
    for (int k = 0; k < 3; ++k) {
      const double at = ahead - k * kTurn / 3;
      double volts = ud * cos(at) - uq * sin(at);
      volts += 0.5 * (r->upper_volts + r->lower_volts) * kDeadTime / kPeriod * limited(r->current[k] / 6.0, 1);
      const double half = volts >= 0 ? r->upper_volts : r->lower_volts;
      leg(&w->gate[4 * k], limited(volts / fmax(half, 50.0) + uneven, 0.98));
      for (int g = 0; g < 4; ++g) wait_for(&w->gate[4 * k + g], c->last[4 * k + (g + 2) % 4]);
    }
    c->angle = fmod(c->angle + kTurn * frequency * kPeriod, kTurn);
  } else {
    for (int k = 0; k < 12; ++k) w->gate[k] = (isodyne_gate){.on = false};
    c->target = c->sum_d = c->sum_q = 0;
  }

  for (int k = 0; k < 12; ++k) c->last[k] = w->gate[k].edges % 2 != 0 ? !w->gate[k].on : w->gate[k].on;

  w->connect = stage == STAGE_FEEDING || (stage == STAGE_WAITING && r->ready) || (stage == STAGE_WAITING && w->connect);
  w->stage = stage;
  w->frequency = frequency;
  w->active = c->active;
  w->reactive = c->reactive;
  w->amplitude = c->amplitude;
  return 0;
}

/* All it remembers is in its memory: a copy of the process has a controller of its own. */
int isodyne_copied(void *self) {
  (void)self;
  return 0;
}
